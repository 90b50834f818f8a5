from __future__ import annotations

from django.http import HttpResponse
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.views import APIView

from pinecart.service.config.rights import actor_in
from pinecart.service.jobs.calendar import DAYS, calendar_of
from pinecart.service.jobs.services.due import schedule_seen
from pinecart.service.notices.selectors import console_address
from pinecart.service.people.sign_in import ByAddress, ByCookie, ByToken


class CalendarView(APIView):
    authentication_classes = (ByAddress, ByToken, ByCookie)

    @extend_schema(responses={(200, "text/calendar"): str})
    def get(self, request: Request) -> HttpResponse:
        """What will run within 14 days, for calendars that subscribe to it (iCalendar)."""
        now = timezone.now()
        address = console_address()
        lines = schedule_seen(actor_in(request), DAYS)
        told = calendar_of(lines, now, address)
        return HttpResponse(told, content_type="text/calendar; charset=utf-8")
