from django.urls import path

from pinecart.service.metrics import api

urlpatterns = [path("metrics", api.Metrics.as_view(), name="metrics")]
