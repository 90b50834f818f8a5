"""All addresses: the API under /api/v1/, and the console's pages under everything else."""

from __future__ import annotations

from django.conf import settings
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.urls import include, path, re_path
from drf_spectacular.views import SpectacularAPIView

from pinecart.service.config.refusals import PROBLEM, problem_body
from pinecart.service.config.rights import ByTable

APPS = (
    "people",
    "stores",
    "jobs",
    "runs",
    "carries",
    "triggers",
    "settings",
    "trail",
    "notices",
    "keeping",
    "today",
    "forms",
)


def console(request: HttpRequest, page: str = "") -> HttpResponse:
    """The console's one page: it finds its way by the address itself."""
    index = settings.CONSOLE / "index.html"
    if not index.exists():
        return HttpResponse(
            "The console is not built. Build it with: make console",
            status=503,
            content_type="text/plain",
        )
    answer = HttpResponse(index.read_bytes(), content_type="text/html; charset=utf-8")
    answer["Cache-Control"] = "no-cache"
    answer["Content-Security-Policy"] = (
        "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "
        "frame-ancestors 'none'; base-uri 'none'"
    )
    return answer


def no_such_call(request: HttpRequest, rest: str = "") -> JsonResponse:
    detail = f"There is no {request.path}. The API's description is at /api/v1/schema."
    return JsonResponse(problem_body(404, "not-found", detail), status=404, content_type=PROBLEM)


def not_from_the_console(request: HttpRequest, reason: str = "") -> JsonResponse:
    """Django's view for a change by cookie without the session's token."""
    detail = (
        f"{reason} Ask GET /api/v1/session for `csrf`, and send it as X-CSRFToken; a program "
        "signs in with a token."
    )
    return JsonResponse(problem_body(403, "csrf", detail), status=403, content_type=PROBLEM)


urlpatterns = [
    *[path("api/v1/", include(f"pinecart.service.{app}.urls")) for app in APPS],
    path(
        "api/v1/schema",
        SpectacularAPIView.as_view(authentication_classes=[], permission_classes=[ByTable]),
        name="schema",
    ),
    path("", include("pinecart.service.metrics.urls")),
    re_path(r"^api/(?P<rest>[\s\S]*)$", no_such_call),
    re_path(r"^(?P<page>[\s\S]*)$", console),
]
