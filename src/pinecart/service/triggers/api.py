"""What starts jobs besides the clock, over HTTP; and watches that somebody keeps up."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart.json_object import JsonObject
from pinecart.service.carries.services import meant_by
from pinecart.service.config.rights import actor_in
from pinecart.service.config.shapes import checked
from pinecart.service.triggers import selectors, services
from pinecart.service.triggers.facts import WatchFacts


class WatchFactsShape(serializers.Serializer):
    how = serializers.CharField(help_text="How it is looked, in words; empty: not yet.")
    looked_at = serializers.DateTimeField(allow_null=True)
    noticed_at = serializers.DateTimeField(allow_null=True)
    noticed = serializers.IntegerField(help_text="So many files were new or changed then.")
    growing = serializers.IntegerField(help_text="So many files are not settled yet.")
    waits = serializers.CharField(help_text="What it waits for, in words.")
    message = serializers.CharField(help_text="Why it could not look; empty: it could.")
    code = serializers.CharField()
    run = serializers.IntegerField(allow_null=True, help_text="The last run that it started.")
    run_at = serializers.DateTimeField(allow_null=True)
    runs = serializers.IntegerField(help_text="So many runs it has started.")


class TriggerShape(WatchFactsShape):
    job = serializers.CharField()
    title = serializers.CharField()
    kind = serializers.CharField()
    when = serializers.CharField(help_text="In words.")
    is_on = serializers.BooleanField()


class TriggersAsked(serializers.Serializer):
    job = serializers.CharField(required=False, default="", help_text="Only this job's.")


class NewWatchShape(serializers.Serializer):
    job = serializers.CharField(required=False, default="", help_text="Watch this job's source.")
    carry = serializers.DictField(
        required=False, help_text="Or carry from here to there: what POST carries takes."
    )


class WatchShape(WatchFactsShape):
    watch = serializers.IntegerField()
    until = serializers.DateTimeField(help_text="It ends then, unless it is asked for again.")


class Triggers(APIView):
    @extend_schema(parameters=[TriggersAsked], responses=TriggerShape(many=True))
    def get(self, request: Request) -> Response:
        """What starts jobs besides the clock: when it last looked, what it noticed, what it waits
        for, what it started.
        """
        job = checked(TriggersAsked, request.query_params)["job"]
        return Response(selectors.triggers_seen(actor_in(request), job))


class Watches(APIView):
    @extend_schema(request=NewWatchShape, responses={201: WatchShape})
    def post(self, request: Request) -> Response:
        """Start a job, or a one-off transfer, at each change of its source: for a minute, unless it
        is asked for again.
        """
        actor = actor_in(request)
        asked = checked(NewWatchShape, request.data)
        carry = None
        if "carry" in asked:
            meant = meant_by(actor, asked["carry"])
            carry = meant.definition
        watch = services.begin_watch(actor, asked["job"], carry)
        return Response(_told(watch), status=201)


class WatchView(APIView):
    @extend_schema(operation_id="watches_keep", request=None, responses=WatchShape)
    def post(self, request: Request, number: int) -> Response:
        """Go on for another minute; and what came of it up to now."""
        return Response(_told(services.keep_watch(actor_in(request), number)))

    @extend_schema(responses={204: None})
    def delete(self, request: Request, number: int) -> Response:
        """Watch no longer. What was started goes on."""
        services.end_watch(actor_in(request), number)
        return Response(status=204)


def _told(watch: WatchFacts) -> JsonObject:
    return {"watch": watch.pk, "until": watch.until, **selectors.watch_told(watch)}
