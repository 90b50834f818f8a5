from django.urls import path

from pinecart.service.triggers import api

urlpatterns = [
    path("triggers", api.Triggers.as_view(), name="triggers"),
    path("watches", api.Watches.as_view(), name="watches"),
    path("watches/<int:number>", api.WatchView.as_view(), name="watch"),
]
