from __future__ import annotations

import json

from django.http import StreamingHttpResponse
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart.core.trail_chain import ChainEntry, ChainHead
from pinecart.json_object import JsonObject
from pinecart.service.config.rights import actor_in
from pinecart.service.config.settings import STATE
from pinecart.service.config.streaming import streamed
from pinecart.service.trail import selectors, services
from pinecart.signed_lines import public_text, signed


class LineShape(serializers.Serializer):
    id = serializers.IntegerField()
    at = serializers.DateTimeField()
    who = serializers.CharField()
    address = serializers.CharField(help_text="From where; empty: from within.")
    action = serializers.CharField()
    subject = serializers.CharField()
    facts = serializers.JSONField()


class TrailAsked(serializers.Serializer):
    before = serializers.IntegerField(required=False, help_text="Lines before the one of this id.")
    who = serializers.CharField(required=False, max_length=150)
    what = serializers.CharField(
        required=False, max_length=40, help_text="job.changed, or job for all that begins so."
    )
    which = serializers.CharField(
        required=False, max_length=200, help_text="Is in the name of what it was done to."
    )
    since = serializers.DateField(required=False, help_text="From this day on, in UTC.")
    until = serializers.DateField(required=False, help_text="Up to this day.")
    limit = serializers.IntegerField(default=100, min_value=1, max_value=1000)


class Trail(APIView):
    @extend_schema(parameters=[TrailAsked], responses=LineShape(many=True))
    def get(self, request: Request) -> Response:
        """Who did what, newest first."""
        asked = TrailAsked(data=request.query_params)
        asked.is_valid(raise_exception=True)
        found = dict(asked.validated_data)
        return Response(
            selectors.lines_before(found.pop("before", None), found.pop("limit"), **found)
        )


class VerifyAsked(serializers.Serializer):
    lines = serializers.IntegerField(required=False, min_value=1)
    digest = serializers.CharField(required=False, max_length=64)

    def validate(self, attrs: JsonObject) -> JsonObject:
        if ("lines" in attrs) != ("digest" in attrs):
            raise serializers.ValidationError(
                "A head has a number of lines and a digest: give both."
            )
        return attrs


class FaultShape(serializers.Serializer):
    number = serializers.IntegerField(help_text="Of the line at which it shows.")
    words = serializers.CharField()


class TrailHeadShape(serializers.Serializer):
    lines = serializers.IntegerField()
    digest = serializers.CharField()
    at = serializers.DateTimeField()
    signature = serializers.CharField()


class VerifiedShape(serializers.Serializer):
    is_whole = serializers.BooleanField()
    lines = serializers.IntegerField(help_text="Lines that were looked at.")
    digest = serializers.CharField()
    faults = FaultShape(many=True)
    signed = TrailHeadShape(allow_null=True, help_text="The newest signed head: keep it elsewhere.")


class TrailVerify(APIView):
    @extend_schema(parameters=[VerifyAsked], responses=VerifiedShape)
    def get(self, request: Request) -> Response:
        """Whether the trail is as it was written; against a head kept elsewhere also its end."""
        asked = VerifyAsked(data=request.query_params)
        asked.is_valid(raise_exception=True)
        outside = ChainHead(**asked.validated_data) if asked.validated_data else None
        found = selectors.verified(outside)
        newest = selectors.heads_signed()
        return Response(
            {
                "is_whole": not found.faults,
                **found.head._asdict(),
                "faults": [fault._asdict() for fault in found.faults],
                "signed": newest[0]._asdict() if newest else None,
            }
        )


class KeysShape(serializers.Serializer):
    chain_key = serializers.CharField(help_text="Hexadecimal; with it a chain can be made anew.")
    public_key = serializers.CharField(help_text="Ed25519, base64.")


class TrailKey(APIView):
    @extend_schema(responses=KeysShape)
    def get(self, request: Request) -> Response:
        """What it takes to verify an export without the service. Recorded in the trail."""
        actor = actor_in(request)
        public = public_text(STATE.sign_key.public_key())
        services.note(actor, "trail.key-taken", "trail")
        chain = STATE.trail_key.hex()
        return Response({"chain_key": chain, "public_key": public})


class TrailExport(APIView):
    @extend_schema(responses={(200, "application/jsonl"): str})
    def get(self, request: Request) -> StreamingHttpResponse:
        """The whole trail with its chain, as JSON lines, signed. Recorded in the trail."""
        services.note(actor_in(request), "trail.exported", "trail")
        entries = selectors.chain_entries()
        now = timezone.now().isoformat()
        made = signed(map(_line_of, entries), STATE.sign_key, now)
        answer = StreamingHttpResponse(streamed(made), content_type="application/jsonl")
        answer["Content-Disposition"] = 'attachment; filename="trail.jsonl"'
        return answer


def _line_of(entry: ChainEntry) -> bytes:
    return json.dumps(entry._asdict()).encode() + b"\n"
