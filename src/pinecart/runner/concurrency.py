"""How many at once, found by trying; and how many bytes a second, where a person sets a limit."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator, Callable

from pinecart.core.entries import Entry
from pinecart.core.keeping import Extra, Keep
from pinecart.core.ports import Reading, Room, WriteStamp

WINDOW_S = 0.1  # one try of a number takes at least so long …
WINDOW_JOBS = 2.0  # … and so many rounds of all that are at once
WORTH = 1.04  # a larger number is kept only if it brings at least this much more
STEP = 2.0


class Pacer:
    """Bytes per second over one run; None: no limit. It may be changed at any time."""

    def __init__(self) -> None:
        self.rate: int | None = None
        self._free_at = 0.0

    async def take(self, size: int) -> None:
        """Wait until `size` bytes may go.

        One at a time in order of asking; a large piece makes the next ones wait.
        """
        if not self.rate:
            return
        now = time.monotonic()
        begin = max(self._free_at, now)
        self._free_at = begin + size / self.rate
        while (left := begin - time.monotonic()) > 0 and self.rate:
            await asyncio.sleep(min(left, 0.5))  # a limit that is lifted meanwhile lets go soon


class Paced:
    """An opened object whose pieces wait for the pacer, and are told as they come. moved: bytes."""

    def __init__(self, reading: Reading, pacer: Pacer, moved: Callable[[int], None]) -> None:
        self._reading = reading
        self._pacer = pacer
        self._moved = moved

    @property
    def entry(self) -> Entry:
        return self._reading.entry

    @property
    def card(self) -> WriteStamp | None:
        return self._reading.card

    @property
    def content_type(self) -> str:
        return self._reading.content_type

    @property
    def metadata(self) -> dict[str, str]:
        return self._reading.metadata

    @property
    def headers(self) -> dict[str, str]:
        return self._reading.headers

    async def look(self) -> None:
        await self._reading.look()

    async def whole(self) -> bytes:
        await self._pacer.take(self.entry.size)
        return await self._reading.whole()

    async def piece(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        """Waits until the rate allows it. What comes is told while it comes, straight into the room
        that is given.
        """
        await self._pacer.take(size)
        told = 0

        def came(length: int) -> None:
            nonlocal told
            told += length
            self._moved(length)

        if isinstance(into, Room):
            into.came = came
        found = await self._reading.piece(start, size, into)
        self._moved(len(found) - told)  # what was asked for again had been told twice
        return found

    def chunks(self) -> AsyncIterator[bytes]:
        return self._reading.chunks()

    async def besides(self, keep: Keep) -> Extra:
        return await self._reading.besides(keep)

    async def verify(self, crc: str = "") -> None:
        await self._reading.verify(crc)


class ConcurrencyController:
    """How many jobs run at once: it climbs while that brings more, steps back when it doesn't, and
    tries again later.

    What counts is jobs a second, and bytes a second where those are the larger part of the work.

    now: the number.   most: asked for every WINDOW_S, since it may change.
    """

    def __init__(self, most: Callable[[], int], first: int = 16) -> None:
        self._wanted = first
        self._most = most
        self.now = min(first, most())
        self._since = time.monotonic()
        self._done = 0
        self._bytes = 0
        self._best: tuple[float, float] | None = (
            None  # what the number before brought: jobs and bytes a second
        )
        self._before = self.now
        self._rest = 0

    def did(self, size: int) -> None:
        """One job is done. Called from the event loop alone."""
        self._done += 1
        self._bytes += size
        span = time.monotonic() - self._since
        if span < WINDOW_S:
            return
        self.now = min(self._wanted, self._most())
        if self._done < WINDOW_JOBS * self.now:
            return
        self._learn(span)

    def _learn(self, span: float) -> None:
        """More at once for as long as that is worth it, in objects or in bytes; else as many as
        before, and no new try for a while.
        """
        found = (self._done / span, self._bytes / span)
        self._since = time.monotonic()
        self._done = 0
        self._bytes = 0
        if self._rest:
            self._rest -= 1
            return
        if (
            self._best is None
            or found[0] > self._best[0] * WORTH
            or found[1] > self._best[1] * WORTH
        ):
            self._best = found
            self._before = self.now
            self._want(min(self._most(), max(self.now + 1, round(self.now * STEP))))
            if self.now == self._before:
                self._rest = 20
        else:
            self._want(self._before)
            self._best = None
            self._rest = 20

    def _want(self, number: int) -> None:
        self._wanted = number
        self.now = min(number, self._most())
