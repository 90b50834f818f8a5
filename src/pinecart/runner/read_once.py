"""Several legs of one source: what one of them has read whole is at hand for the others, as much of
it as memory allows. Each of them lists what lies there; only the same fingerprint is the same.
"""

from __future__ import annotations

import time
from collections.abc import AsyncIterator
from contextlib import AbstractAsyncContextManager, asynccontextmanager
from typing import Any

from pinecart.core.entries import Entry, fingerprint, is_racy
from pinecart.core.keeping import Extra, Keep
from pinecart.core.ports import HELD_BYTES, Reading, WriteStamp

MOST_BYTES = 24 << 20  # held over all legs; the first that were read stay
MOST_FILES = 20_000


class HeldReading:
    """core.ports.Reading of what was read before."""

    def __init__(self, reading: Reading, body: bytes, extra: Extra | None) -> None:
        self.entry: Entry = reading.entry
        self.card: WriteStamp | None = reading.card
        self.content_type: str = reading.content_type
        self.metadata: dict[str, str] = reading.metadata
        self.headers: dict[str, str] = reading.headers
        self._body = body
        self._extra = extra

    async def look(self) -> None:
        """It is known."""

    async def whole(self) -> bytes:
        return self._body

    async def piece(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        return self._body[start : start + size]

    async def chunks(self) -> AsyncIterator[bytes]:
        yield self._body

    async def besides(self, keep: Keep) -> Extra:
        """As it was asked before: all legs of a job keep the same."""
        return self._extra or Extra()

    async def verify(self, crc: str = "") -> None:
        """It was, when it was read."""


class _Kept:
    """A reading whose whole is kept once it is known to be good."""

    def __init__(self, reading: Reading, keep: Any) -> None:
        """keep: what besides the bytes any of the targets wants."""
        self._reading = reading
        self._keep = keep
        self._body: bytes | None = None
        self._extra: Extra | None = None

    def __getattr__(self, name: str) -> Any:
        return getattr(self._reading, name)

    async def whole(self) -> bytes:
        self._body = await self._reading.whole()
        return self._body

    async def besides(self, keep: Keep) -> Extra:
        self._extra = await self._reading.besides(keep)
        return self._extra

    def done(self) -> None:
        if self._body is not None:
            self._keep(HeldReading(self._reading, self._body, self._extra), len(self._body))


class ReadOnce:
    """Of one source place."""

    def __init__(self) -> None:
        self._held: dict[tuple[bytes, str], HeldReading] = {}
        self._free = MOST_BYTES

    def opened(
        self, key: bytes, entry: Entry, opening: AbstractAsyncContextManager[Reading]
    ) -> AbstractAsyncContextManager[Any]:
        """What was read before, or `opening`, of which is kept what there is room for."""
        held = self._held.get((key, fingerprint(entry)))
        if held is not None:
            return _at_hand(held)
        is_kept = entry.size <= min(self._free, HELD_BYTES) and len(self._held) < MOST_FILES
        if is_kept:
            return self._keeping(key, entry, opening)
        return opening

    @asynccontextmanager
    async def _keeping(
        self, key: bytes, entry: Entry, opening: AbstractAsyncContextManager[Reading]
    ) -> AsyncIterator[Any]:
        now_so = fingerprint(entry)

        def keep(held: HeldReading, size: int) -> None:
            is_same = fingerprint(held.entry._replace(key=entry.key)) == now_so
            if size <= self._free and is_same and not is_racy(entry, time.time_ns()):
                self._free -= size
                self._held[key, now_so] = held

        async with opening as reading:
            kept = _Kept(reading, keep)
            yield kept
            kept.done()


@asynccontextmanager
async def _at_hand(held: HeldReading) -> AsyncIterator[HeldReading]:
    yield held
