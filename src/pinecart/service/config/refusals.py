"""The service's own refusals, beside those of core."""

from __future__ import annotations

from typing import Any

from pinecart.core import errors
from pinecart.json_object import JsonObject


class UnknownName(errors.PinecartError):
    """There is nothing of that name, or the asker may not know of it."""

    code = "not-found"


class StateConflict(errors.PinecartError):
    """It can't be done as things stand now."""

    code = "conflict"


class RightMissing(errors.PinecartError):
    """A right is missing."""

    code = "right.missing"


PROBLEM = "application/problem+json"  # RFC 9457


def problem_body(status: int, code: str, detail: str, **facts: Any) -> JsonObject:
    return {
        "type": "about:blank",
        "title": code,
        "status": status,
        "code": code,
        "detail": detail,
        **facts,
    }
