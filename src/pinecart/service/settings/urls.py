from django.urls import path

from pinecart.service.settings import api

urlpatterns = [
    path("settings", api.Settings.as_view(), name="settings"),
    path("settings/go-on", api.GoOn.as_view(), name="go-on"),
]
