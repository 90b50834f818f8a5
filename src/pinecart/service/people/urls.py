from django.urls import path

from pinecart.service.people import api

urlpatterns = [
    path("session", api.Session.as_view(), name="session"),
    path("session/password", api.OwnPassword.as_view(), name="own-password"),
    path("session/second-factor", api.SecondFactorView.as_view(), name="second-factor"),
    path("session/second-factor/off", api.SecondFactorOff.as_view(), name="second-factor-off"),
    path("entry", api.EntryView.as_view(), name="entry"),
    path("sessions", api.Sessions.as_view(), name="sessions"),
    path("sessions/<int:number>", api.OpenSession.as_view(), name="session-one"),
    path("people", api.People.as_view(), name="people"),
    path("people/<str:name>", api.PersonView.as_view(), name="person"),
    path("people/<str:name>/entry-code", api.EntryCodeView.as_view(), name="entry-code"),
    path("tokens", api.Tokens.as_view(), name="tokens"),
    path("tokens/<int:number>", api.TokenView.as_view(), name="token"),
]
