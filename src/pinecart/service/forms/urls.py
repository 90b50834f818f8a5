from django.urls import path

from pinecart.service.forms import api

urlpatterns = [path("forms", api.Forms.as_view(), name="forms")]
