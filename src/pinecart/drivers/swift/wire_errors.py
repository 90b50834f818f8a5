"""What Swift's refusals mean, as errors of ours (OpenStack Object Store API v1)."""

from __future__ import annotations

from collections.abc import Mapping

from pinecart.core.errors import Busy, Corrupt, Missing, Refused, SignInRefused, StoreError, Taken
from pinecart.drivers.http_refusals import Meaning, refusal

_BY_STATUS: dict[int, Meaning] = {
    401: (SignInRefused, "store.sign-in-refused", "The user, key or token is not accepted."),
    403: (Refused, "store.refused", "This account may not do that. Grant it the right."),
    404: (Missing, "store.missing", "There is no such file."),
    408: (Busy, "store.busy", "The store did not receive the request in time."),
    409: (Busy, "store.busy", "Another write to the same name is under way."),
    411: (Refused, "store.unsupported", "The store wants to know a length."),
    412: (Taken, "store.not-as-planned", "What is there is not as planned."),
    413: (Refused, "store.full", "It is too large, or the quota is used up."),
    422: (Corrupt, "store.corrupt", "The bytes did not arrive as they were sent."),
    429: (Busy, "store.busy", "The store asks to go slower."),
    498: (Busy, "store.busy", "The store asks to go slower."),
    501: (Refused, "store.unsupported", "The store does not know this request."),
}


def error_from(status: int, headers: Mapping[str, str], body: bytes, *, what: str) -> StoreError:
    """what: location and action, for the message."""
    plain = body[:200].decode("utf-8", "replace")
    is_page = "<" in plain or "\0" in plain
    said = "" if is_page else " ".join(plain.split())
    known = _BY_STATUS.get(status)
    return refusal(known, status, headers, what=what, said=said)
