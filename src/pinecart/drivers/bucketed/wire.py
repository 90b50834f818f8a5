"""What stores of buckets have in common in what goes over the line, as pure functions."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from functools import lru_cache
from urllib.parse import quote

from pinecart.core.errors import Busy


def encoded_query(query: Sequence[tuple[str, str | bytes]]) -> str:
    """Sorted and encoded, as both the request and the signature want it."""
    return "&".join(sorted(f"{quote(k, safe='-_.~')}={quote(v, safe='-_.~')}" for k, v in query))


@lru_cache(100_000)  # what was stored together shares its seconds
def time_ns(text: str | None) -> int | None:
    """None also for a time that no clock of ours can hold."""
    if not text:
        return None
    found_ns = int(moment_of(text).timestamp()) * 1_000_000_000
    if abs(found_ns) <= LARGEST:
        return found_ns
    return None


def moment_of(text: str) -> datetime:
    """Raises Busy for what is no time: it may have been garbled on its way."""
    try:
        found = datetime.fromisoformat(text.replace("Z", "+00:00"))
        if found.tzinfo:
            return found
        return found.replace(tzinfo=UTC)
    except ValueError:
        raise Busy(
            f"The store told a time that is none: {text[:40]!r}.", code="store.garbled"
        ) from None


LARGEST = 2**63 - 1


def number(text: str | None, what: str) -> int:
    """Raises Busy for what is no number, or none that can be: it may have been garbled
    on its way.
    """
    told = (text or "0").strip()
    if not (told.isascii() and told.isdecimal() and len(told) < 20 and int(told) <= LARGEST):
        raise Busy(f"The store told a {what} that is none: {told[:40]!r}.", code="store.garbled")
    return int(told)
