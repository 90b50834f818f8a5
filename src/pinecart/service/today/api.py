from __future__ import annotations

from importlib import import_module

from django.db import connection
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart import __version__
from pinecart.service.config.alive import parts_missing
from pinecart.service.config.refusals import UnknownName
from pinecart.service.config.rights import actor_in
from pinecart.service.config.settings import OPTIONS
from pinecart.service.jobs.shapes import DueShape
from pinecart.service.notices.api import HappeningShape
from pinecart.service.runs.api import asked
from pinecart.service.runs.shapes import RunShape
from pinecart.service.today import selectors
from pinecart.service.today.picture import picture_of
from pinecart.service.today.weeks import weeks_of


class ConcernShape(serializers.Serializer):
    subject = serializers.CharField(help_text="A store or a job; empty: the service.")
    words = serializers.CharField()
    todo = serializers.CharField()
    path = serializers.CharField(help_text="Of the page where it is done.")


class TodayShape(serializers.Serializer):
    sentence = serializers.CharField()
    restored = serializers.CharField(
        help_text="Of which time the backup is that this was restored from; empty: it goes on."
    )
    needed = RunShape(many=True, help_text="Latest runs that need a person.")
    awaited = HappeningShape(many=True, help_text="Expected, and not come yet.")
    unusual = HappeningShape(
        many=True, help_text="Runs of the last 24 hours that were unlike those before them."
    )
    concerns = ConcernShape(many=True, help_text="What needs a person and is no run.")
    working = RunShape(many=True)
    recent = RunShape(many=True, help_text="Ended in the last 24 hours, newest first.")
    due = DueShape(many=True)


class BarShape(serializers.Serializer):
    id = serializers.IntegerField()
    job = serializers.CharField()
    mark = serializers.CharField(help_text="Its outcome, or its state while it goes on.")
    started_at = serializers.DateTimeField()
    ended_at = serializers.DateTimeField(allow_null=True)


class LaneShape(serializers.Serializer):
    job = serializers.CharField()
    runs = BarShape(many=True)
    due = serializers.ListField(child=serializers.DateTimeField())


class DayShape(serializers.Serializer):
    day = serializers.DateField(help_text="In UTC.")
    runs = serializers.IntegerField()
    files = serializers.IntegerField()
    bytes = serializers.IntegerField()
    problems = serializers.IntegerField()


class StoreLineShape(serializers.Serializer):
    name = serializers.CharField()
    tried_at = serializers.DateTimeField(allow_null=True)
    is_reached = serializers.BooleanField(allow_null=True, help_text="Null: never tried.")
    message = serializers.CharField()
    key_since = serializers.DateTimeField(allow_null=True)
    is_key_old = serializers.BooleanField()


class PictureShape(serializers.Serializer):
    since = serializers.DateTimeField()
    now = serializers.DateTimeField()
    until = serializers.DateTimeField()
    lanes = LaneShape(many=True, help_text="One for each job that ran, or is due.")
    more_lanes = serializers.IntegerField()
    days = DayShape(many=True, help_text="What was carried on each of the last 14 days.")
    stores = StoreLineShape(many=True)


class Picture(APIView):
    @extend_schema(responses=PictureShape)
    def get(self, request: Request) -> Response:
        """The last 24 hours, what was carried a day, and the stores."""
        return Response(picture_of(actor_in(request), timezone.now()))


class LastedShape(serializers.Serializer):
    least = serializers.FloatField(help_text="Seconds: one run in ten was quicker.")
    usual = serializers.FloatField()
    most = serializers.FloatField(help_text="Seconds: one run in ten took longer.")


class MarkShape(serializers.Serializer):
    since = serializers.DateTimeField()
    until = serializers.DateTimeField()
    mark = serializers.CharField(help_text="The worst outcome of what ended then.")
    runs = serializers.IntegerField()
    run = serializers.IntegerField(help_text="The one with that outcome.")


class WeekShape(serializers.Serializer):
    since = serializers.DateTimeField(help_text="Monday, in UTC.")
    until = serializers.DateTimeField()
    runs = serializers.IntegerField(help_text="That ended in it; skipped ones too.")
    outcomes = serializers.DictField(child=serializers.IntegerField(), help_text="Outcome → runs.")
    files = serializers.IntegerField()
    bytes = serializers.IntegerField()
    problems = serializers.IntegerField()
    lasted = LastedShape(allow_null=True)
    marks = MarkShape(many=True)


class WeeksAsked(serializers.Serializer):
    job = serializers.CharField(default="", allow_blank=True, help_text="Empty: of all.")
    weeks = serializers.IntegerField(default=8, min_value=1, max_value=13)


class Weeks(APIView):
    @extend_schema(parameters=[WeeksAsked], responses=WeekShape(many=True))
    def get(self, request: Request) -> Response:
        """What transfers came to, week by week, the newest first."""
        wanted = asked(WeeksAsked, request)
        return Response(weeks_of(actor_in(request), timezone.now(), **wanted))


class HealthShape(serializers.Serializer):
    ok = serializers.BooleanField()
    version = serializers.CharField()


class ArrivedShape(serializers.Serializer):
    arrived = serializers.ListField(child=serializers.CharField())
    changed = serializers.ListField(child=serializers.CharField())


class Today(APIView):
    @extend_schema(responses=TodayShape)
    def get(self, request: Request) -> Response:
        """Is everything well?"""
        return Response(selectors.today(actor_in(request)))


class Health(APIView):
    authentication_classes = ()

    @extend_schema(responses=HealthShape)
    def get(self, request: Request) -> Response:
        """Whether the service answers and its database does. Open to all; it tells nothing else."""
        with connection.cursor() as cursor:
            cursor.execute("SELECT 1")
        return Response({"ok": True, "version": __version__})


class ReadyShape(serializers.Serializer):
    ready = serializers.BooleanField()
    quiet = serializers.ListField(
        child=serializers.CharField(), help_text="Processes that show no life."
    )


class Ready(APIView):
    authentication_classes = ()

    @extend_schema(responses={200: ReadyShape, 503: ReadyShape})
    def get(self, request: Request) -> Response:
        """Whether everything works: the database, the clock, the worker. Open to all."""
        with connection.cursor() as cursor:
            cursor.execute("SELECT 1")
        now = timezone.now().timestamp()
        quiet = parts_missing(now)
        told = {"ready": not quiet, "quiet": quiet}
        return Response(told, status=503 if quiet else 200)


class DemoArrive(APIView):
    @extend_schema(request=None, responses=ArrivedShape)
    def post(self, request: Request) -> Response:
        """Only in the demo: three new recordings arrive, and one count sheet changes."""
        if not OPTIONS.demo:
            raise UnknownName(
                "This service is not the demo: nothing arrives by a button here.", code="demo.off"
            )
        module, _, name = OPTIONS.demo.partition(":")
        arrive = getattr(import_module(module), name)
        return Response(arrive())
