from django.urls import path

from pinecart.service.settings import api

urlpatterns = [path("settings", api.Settings.as_view(), name="settings")]
