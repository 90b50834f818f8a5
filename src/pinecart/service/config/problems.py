"""Errors as answers: one table from our errors to problem documents (RFC 9457) with a stable
`code`.
"""

from __future__ import annotations

import logging
import time
from importlib import import_module
from typing import Any

from django.db.utils import OperationalError
from django.http import Http404
from rest_framework import exceptions
from rest_framework.response import Response
from rest_framework.views import exception_handler

from pinecart.core import errors
from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import (
    PROBLEM,
    RightMissing,
    StateConflict,
    UnknownName,
    problem_body,
)

log = logging.getLogger("pinecart.service")


STATUS: list[tuple[type[errors.PinecartError], int]] = [
    (UnknownName, 404),
    (StateConflict, 409),
    (RightMissing, 403),
    (errors.Invalid, 422),
    (errors.WrongMoment, 409),
    (errors.Missing, 404),
    (errors.Refused, 422),
    (errors.Taken, 409),
    (errors.Busy, 502),
    (errors.StoreError, 502),
    (errors.PinecartError, 500),
]
THEIRS = {
    exceptions.NotAuthenticated: "sign-in.missing",
    exceptions.AuthenticationFailed: "sign-in.refused",
    exceptions.PermissionDenied: "right.missing",
    exceptions.MethodNotAllowed: "method.unknown",
    exceptions.ParseError: "body.malformed",
    exceptions.UnsupportedMediaType: "body.not-json",
    exceptions.Throttled: "too-many-tries",
    exceptions.NotFound: "not-found",
}


def problem(status: int, code: str, detail: str, **facts: Any) -> Response:
    return Response(
        problem_body(status, code, detail, **facts), status=status, content_type=PROBLEM
    )


def as_problem(exc: Exception, context: JsonObject) -> Response | None:
    """DRF's exception handler."""
    if isinstance(exc, RightMissing):
        _note_refusal(exc, context["request"])
    if isinstance(exc, errors.PinecartError):
        status = next(s for kind, s in STATUS if isinstance(exc, kind))
        facts = {
            k: v
            for k, v in exc.facts.items()
            if k in ("problems", "did_you_mean", "folders", "right", "run")
        }
        return problem(status, exc.code, exc.message, **facts)
    if isinstance(exc, Http404):
        return problem(404, "not-found", "There is no such address.")
    if isinstance(exc, exceptions.ValidationError):
        if isinstance(exc.detail, dict):
            fields: JsonObject = exc.detail
        else:
            fields = {"body": exc.detail}
        found = [
            {"field": k, "code": "field.malformed", "message": f"{k}: {_words(v)}"}
            for k, v in fields.items()
        ]
        return problem(
            422, "field.malformed", " ".join(f["message"] for f in found), problems=found
        )
    if isinstance(exc, OperationalError):
        log.error("The records can't be used: %s", exc)
        made = problem(
            503,
            "records.unavailable",
            (
                f"The records can't be read or written just now ({exc}). Try again in a moment; "
                "if it stays so, look at the disk, and run: pinecart check"
            ),
        )
        made["Retry-After"] = "5"
        return made
    if isinstance(
        exc, UnicodeEncodeError | OverflowError
    ):  # half a letter, a number beyond all years
        log.warning("What was asked can't be used", exc_info=exc)
        return problem(
            422,
            "field.malformed",
            "A text in this call is no text, or a number in it is too large.",
        )
    answer = exception_handler(exc, context)
    if answer is None:
        log.exception("Unexpected error")
        return problem(
            500, "internal", "Something went wrong on our side. It is in the service's log."
        )
    code = getattr(exc, "forced_code", None) or next(
        (c for kind, c in THEIRS.items() if isinstance(exc, kind)), "refused"
    )
    made = problem(answer.status_code, code, str(getattr(exc, "detail", exc)))
    for header, value in answer.headers.items():
        if header in ("WWW-Authenticate", "Retry-After", "Allow"):
            made[header] = value
    return made


NOTED_EACH_S = 60.0
MOST_NOTED = 10_000
_noted: dict[tuple[str, str], float] = {}  # who, call → when the trail was last told


def _note_refusal(exc: RightMissing, request: Any) -> None:
    """Into the trail, once a minute for the same call of the same person: nobody fills it by
    knocking.
    """
    actor = getattr(request.user, "actor", None)
    call = f"{request.method} {request.resolver_match.url_name}"
    now = time.monotonic()
    if actor is None or _noted.get((actor.name, call), -NOTED_EACH_S) > now - NOTED_EACH_S:
        return
    if len(_noted) > MOST_NOTED:
        _noted.clear()
    _noted[actor.name, call] = now
    note = import_module("pinecart.service.trail.services").note
    try:
        note(
            actor,
            "refused",
            f"{request.method} {request.path}",
            code=exc.code,
            right=exc.facts.get("right", ""),
        )
    except OperationalError as cant:
        log.error("A refusal could not be written into the trail: %s", cant)


def _words(found: Any) -> str:
    if isinstance(found, list):
        return " ".join(map(str, found))
    return str(found)
