from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart.service.trail import selectors


class LineShape(serializers.Serializer):
    id = serializers.IntegerField()
    at = serializers.DateTimeField()
    who = serializers.CharField()
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
