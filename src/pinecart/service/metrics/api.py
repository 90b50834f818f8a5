from __future__ import annotations

from django.http import HttpResponse
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.views import APIView

from pinecart.service.metrics.figures import Figures


class Metrics(APIView):
    @extend_schema(responses={(200, "text/plain"): str})
    def get(self, request: Request) -> HttpResponse:
        """Figures in the Prometheus text format."""
        text = Figures(timezone.now()).text()
        return HttpResponse(text, content_type="text/plain; version=0.0.4; charset=utf-8")
