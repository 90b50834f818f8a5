"""The service's settings over HTTP."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart.core.periods import MOST_DAYS, Periods
from pinecart.service.config.rights import actor_in
from pinecart.service.config.shapes import checked
from pinecart.service.settings import selectors, services


class SettingsShape(serializers.Serializer):
    values = serializers.DictField(
        child=serializers.CharField(),
        help_text="Name → value: what {name} in a job's places stands for.",
    )
    guards = serializers.DictField(
        child=serializers.IntegerField(),
        help_text="The limits above which a run waits for a yes, where its job has none.",
    )
    keep = serializers.DictField(
        child=serializers.IntegerField(),
        help_text="What was recorded → so many days it is kept; 0: without end.",
    )


def _days() -> serializers.IntegerField:
    return serializers.IntegerField(required=False, min_value=0, max_value=MOST_DAYS)


KeptShape = type(
    "KeptShape", (serializers.Serializer,), {name: _days() for name in Periods._fields}
)


class NewSettingsShape(serializers.Serializer):
    values = serializers.ListField(
        child=serializers.CharField(),
        required=False,
        help_text="All of them, each as name=value. Left out: they stay.",
    )
    guards = serializers.DictField(
        child=serializers.IntegerField(min_value=0),
        required=False,
        help_text="All that are not as usual. Left out: they stay.",
    )
    keep = KeptShape(required=False, help_text="What → days; 0: without end. Left out: it stays.")


class GoOn(APIView):
    @extend_schema(request=None, responses={204: None})
    def post(self, request: Request) -> Response:
        """After a restore: jobs start by themselves again."""
        services.go_on(actor_in(request))
        return Response(status=204)


class Settings(APIView):
    @extend_schema(operation_id="settings_show", responses=SettingsShape)
    def get(self, request: Request) -> Response:
        """What holds for the whole service."""
        return Response(selectors.settings_told())

    @extend_schema(request=NewSettingsShape, responses=SettingsShape)
    def put(self, request: Request) -> Response:
        """Change what holds for the whole service, from the next run on."""
        asked = checked(NewSettingsShape, request.data)
        return Response(services.change_settings(actor_in(request), asked))
