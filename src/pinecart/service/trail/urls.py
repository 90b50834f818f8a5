from django.urls import path

from pinecart.service.trail import api

urlpatterns = [
    path("trail", api.Trail.as_view(), name="trail"),
    path("trail/verify", api.TrailVerify.as_view(), name="trail-verify"),
    path("trail/export", api.TrailExport.as_view(), name="trail-export"),
    path("trail/key", api.TrailKey.as_view(), name="trail-key"),
]
