"""Refusals over HTTP, once it is known what they mean, as errors of ours."""

from __future__ import annotations

from collections.abc import Mapping

from pinecart.core.errors import Busy, Refused, StoreError
from pinecart.drivers.http_message import wait_told

Meaning = tuple[type[StoreError], str, str]  # the error, its code, and what to do
_FAULT: Meaning = (Busy, "store.busy", "The server has a fault on its side.")


def refusal(
    meaning: Meaning | None, status: int, headers: Mapping[str, str], *, what: str, said: str = ""
) -> StoreError:
    """meaning: None: none is known.   what: location and action, for the message.   said: what the
    server says itself.
    """
    told = f"{status} {said}"[:200].strip()
    if meaning is None and status >= 500:
        meaning = _FAULT
    if meaning is None:
        return Refused(f"{what}: the server refused ({told}).", status=status)
    kind, code, words = meaning
    message = f"{what}: {words} ({told})"
    if kind is Busy:
        wait_s = wait_told(headers.get("Retry-After", ""))
        return Busy(f"{message} It is tried again.", code=code, wait_s=wait_s, status=status)
    return kind(message, code=code, status=status)
