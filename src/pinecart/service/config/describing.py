"""What the published description says of every call alike: the problems that it may answer with."""

from __future__ import annotations

from typing import Any

from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import PROBLEM

ANY = {
    400: "The request is malformed, or asks under a name that this service doesn't have.",
    401: "Nobody is signed in, or the token has ended.",
    403: "A right is missing.",
    404: "There is nothing of that name, or none that you may know of.",
    405: "This address knows other methods.",
    408: "The body came too slowly.",
    409: "It can't be done as things stand now.",
    413: "The body is too large.",
    415: "The body is not of the right type.",
    422: "What is asked for makes no sense, or a store refused it; `problems` says which field.",
    429: "Too many tries.",
    502: "A store could not be reached, or has a fault.",
    503: "The records can't be used just now.",
}
SHAPE = {
    "type": "object",
    "description": "A problem document (RFC 9457). `code` is stable; `detail` is for people.",
    "required": ["type", "title", "status", "code", "detail"],
    "properties": {
        "type": {"type": "string"},
        "title": {"type": "string"},
        "status": {"type": "integer"},
        "code": {"type": "string"},
        "detail": {"type": "string"},
        "right": {"type": "string"},
        "run": {"type": "integer"},
        "did_you_mean": {"type": "array", "items": {"type": "string"}},
        "folders": {"type": "array", "items": {"type": "string"}},
        "problems": {
            "type": "array",
            "items": {
                "type": "object",
                "required": ["field", "code", "message"],
                "properties": {
                    name: {"type": "string"}
                    for name in ("field", "code", "message", "did_you_mean")
                },
            },
        },
    },
}


def with_problems(result: JsonObject, **_: Any) -> JsonObject:
    """A hook of the description's maker."""
    parts = result["components"]
    parts["schemas"]["Problem"] = SHAPE
    content = {PROBLEM: {"schema": {"$ref": "#/components/schemas/Problem"}}}
    parts["responses"] = {
        f"Problem{n}": {"description": words, "content": content} for n, words in ANY.items()
    }
    refusals = {str(n): {"$ref": f"#/components/responses/Problem{n}"} for n in ANY}
    for methods in result["paths"].values():
        for call in methods.values():
            call["responses"] = refusals | call["responses"]
    return result
