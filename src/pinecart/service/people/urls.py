from django.urls import path

from pinecart.service.people import api

urlpatterns = [
    path("session", api.Session.as_view(), name="session"),
    path("people", api.People.as_view(), name="people"),
    path("tokens", api.Tokens.as_view(), name="tokens"),
    path("tokens/<int:number>", api.TokenView.as_view(), name="token"),
]
