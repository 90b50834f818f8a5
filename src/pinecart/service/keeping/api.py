from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart.service.keeping.selectors import room_taken


class RoomShape(serializers.Serializer):
    what = serializers.CharField()
    bytes = serializers.IntegerField()
    days = serializers.IntegerField(
        allow_null=True, help_text="So long it is kept; 0: without end; null: that isn't by days."
    )


class RoomView(APIView):
    @extend_schema(responses=RoomShape(many=True))
    def get(self, request: Request) -> Response:
        """What takes how much room in the state folder, the most first."""
        return Response(room_taken())
