from django.urls import path

from pinecart.service.today import api

urlpatterns = [
    path("health", api.Health.as_view(), name="health"),
    path("health/ready", api.Ready.as_view(), name="health-ready"),
    path("today", api.Today.as_view(), name="today"),
    path("weeks", api.Weeks.as_view(), name="weeks"),
    path("today/picture", api.Picture.as_view(), name="today-picture"),
    path("demo/arrive", api.DemoArrive.as_view(), name="demo-arrive"),
]
