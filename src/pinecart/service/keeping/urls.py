from django.urls import path

from pinecart.service.keeping import api

urlpatterns = [path("room", api.RoomView.as_view(), name="room")]
