from django.urls import path

from pinecart.service.notices import api

urlpatterns = [
    path("notices", api.Notices.as_view(), name="notices"),
    path("notices/<int:number>", api.Notice.as_view(), name="notice"),
    path("notices/<int:number>/try", api.NoticeTry.as_view(), name="notice-try"),
    path("deliveries", api.Deliveries.as_view(), name="deliveries"),
    path("mail", api.Mail.as_view(), name="mail"),
]
