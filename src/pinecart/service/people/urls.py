from django.urls import path

from pinecart.service.people import api

urlpatterns = [
    path("session", api.Session.as_view(), name="session"),
    path("people", api.People.as_view(), name="people"),
    path("people/<str:name>", api.PersonView.as_view(), name="person"),
    path("session/password", api.OwnPassword.as_view(), name="own-password"),
    path("tokens", api.Tokens.as_view(), name="tokens"),
    path("tokens/<int:number>", api.TokenView.as_view(), name="token"),
]
