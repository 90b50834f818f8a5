from django.urls import path

from pinecart.service.trail import api

urlpatterns = [path("trail", api.Trail.as_view(), name="trail")]
