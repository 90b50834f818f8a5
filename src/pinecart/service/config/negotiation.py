from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.http import HttpRequest, HttpResponseBase
from django.utils.decorators import sync_and_async_middleware
from rest_framework.exceptions import ParseError
from rest_framework.negotiation import DefaultContentNegotiation
from rest_framework.parsers import JSONParser


class OneForm(DefaultContentNegotiation):
    """Each address answers in its one form, whatever a caller says it accepts."""

    def select_renderer(self, request: Any, renderers: Any, format_suffix: Any = None) -> Any:
        return renderers[0], renderers[0].media_type


class Json(JSONParser):
    def parse(self, *args: Any, **kwargs: Any) -> Any:
        try:
            return super().parse(*args, **kwargs)
        except RecursionError:
            raise ParseError("The JSON is nested too deep.") from None


@sync_and_async_middleware
def guarded_on_its_way(get_response: Callable[..., Any]) -> Callable[..., Any]:
    """No answer of the network interface is kept by anybody; over TLS, also a proxy's, cookies stay
    on it.
    """
    from inspect import iscoroutinefunction

    def marked(request: HttpRequest, answer: HttpResponseBase) -> HttpResponseBase:
        if request.path.startswith(("/api/", "/metrics")) and not answer.has_header(
            "Cache-Control"
        ):
            answer["Cache-Control"] = "no-store"
        if request.is_secure():
            for cookie in answer.cookies.values():
                cookie["secure"] = True
        return answer

    if iscoroutinefunction(get_response):

        async def later(request: HttpRequest) -> HttpResponseBase:
            return marked(request, await get_response(request))

        return later
    return lambda request: marked(request, get_response(request))
