"""What goes over a line: headers, answers, bodies in pieces."""

from __future__ import annotations

import re
from collections.abc import AsyncIterator, Callable, Iterator, Mapping
from datetime import UTC
from email.utils import parsedate_to_datetime
from functools import lru_cache
from typing import Any, NamedTuple

_RANGE = re.compile(r"bytes (\d{1,18})-(\d{1,18})/(\d{1,18}|\*)", re.IGNORECASE)


class Headers(Mapping[str, str]):
    """An answer's headers, whatever their case. Few of them are ever asked for, so that each is
    looked for then.

    raw: the status line and the lines after it, as they came.
    """

    def __init__(self, raw: bytes) -> None:
        self._raw = raw
        self._low = raw.lower()

    def _value(self, name: str) -> str | None:
        mark = b"\n" + name.lower().encode() + b":"
        at = self._low.rfind(mark)
        if at < 0:
            return None
        start = at + len(mark)
        end = self._raw.find(b"\n", start)
        text = self._raw[start:end].decode("utf-8", "surrogateescape")
        return text.strip()

    def __getitem__(self, name: str) -> str:
        found = self._value(name)
        if found is None:
            raise KeyError(name)
        return found

    def get(self, name: str, default: Any = None) -> Any:
        found = self._value(name)
        if found is None:
            return default
        return found

    def all_of(self, name: str) -> list[str]:
        """The values of each line of that name."""
        mark = name.lower().encode() + b":"
        end = len(mark)
        found = []
        for line in self._raw.split(b"\n")[1:]:
            if line[:end].lower() == mark:
                value = line[end:].decode("utf-8", "surrogateescape")
                found.append(value.strip())
        return found

    def __iter__(self) -> Iterator[str]:
        """Each name once, in small letters, in the order they came; a line without a colon has no
        name.
        """
        names = [line.partition(b":") for line in self._low.split(b"\n")[1:]]
        return iter(
            dict.fromkeys(
                name.decode("utf-8", "surrogateescape") for name, colon, _ in names if colon
            )
        )

    def __len__(self) -> int:
        return len(list(iter(self)))


class HttpAnswer(NamedTuple):
    status: int
    headers: Mapping[str, str]
    body: bytes


class Pieces:
    """A body that is never held whole.

    chunks: reads it from its start, for each request anew; `size` bytes in all.
    """

    def __init__(self, size: int, chunks: Callable[[], AsyncIterator[bytes]]) -> None:
        self._size = size
        self.chunks = chunks

    def __len__(self) -> int:
        return self._size


class PartTold(NamedTuple):
    """Of a `Content-Range` (RFC 9110, section 14.4). first, last: bytes, counted from 0.   whole:
    the size of all; None: it isn't told.
    """

    first: int
    last: int
    whole: int | None


def part_told(headers: Mapping[str, str]) -> PartTold | None:
    found = _RANGE.fullmatch(headers.get("Content-Range", "").strip())
    if not found:
        return None
    whole = None if found[3] == "*" else int(found[3])
    return PartTold(int(found[1]), int(found[2]), whole)


def wait_told(text: str) -> float | None:
    """Seconds of a `Retry-After`; None for what is none, or longer than anybody means: a date
    is read elsewhere.
    """
    if text.isascii() and text.isdecimal() and len(text) < 9:
        return float(text)
    return None


@lru_cache(maxsize=100_000)  # what was stored together shares its seconds
def http_time_ns(text: str | None) -> int | None:
    """ns since 1970 of an HTTP date (RFC 9110, section 5.6.7); None: it is none."""
    try:
        moment = parsedate_to_datetime(text or "")
    except (ValueError, TypeError, IndexError):
        return None
    whole = moment if moment.tzinfo else moment.replace(tzinfo=UTC)
    return int(whole.timestamp()) * 1_000_000_000
