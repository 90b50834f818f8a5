"""A long listing read in several ranges at once, given out in order.

Where the ledger remembers keys, every thousandth of them is a cut; without a ledger the folders of
the first level are.
"""

from __future__ import annotations

import asyncio
import itertools
from collections import deque
from collections.abc import AsyncIterator, Awaitable, Callable, Sequence
from typing import Any

from pinecart.core.entries import Entry
from pinecart.runner.side import Side

PAGE = 1000  # a full page: only then is there more to come
AT_ONCE = 16
WAITING = 2  # pages of one range that wait for their turn

Pages = AsyncIterator[Sequence[Entry]]


async def in_ranges(
    side: Side, cuts: Callable[[], Awaitable[list[bytes]]], folders: str = ""
) -> Pages:
    """The side's listing.

    cuts: asked for only once a first page was full; keys relative to the side.
    """
    pages = side.listed(folders=folders)
    first = await anext(pages, None)
    if first is None:
        return
    yield first
    known: list[bytes] = []
    if len(first) >= PAGE and (await side.store.abilities(side.prefix)).lists_ranges:
        known = [c for c in (await cuts() or await _by_folders(side)) if c > first[-1].key]
    if not known:
        async for page in pages:
            yield page
        return
    await pages.aclose()  # type: ignore[attr-defined]
    async for page in _merged(side, [first[-1].key, *known]):
        yield page


async def _by_folders(side: Side) -> list[bytes]:
    """The folders just below, if one page tells them all: `x/` sorts before everything in it."""
    level = await side.store.level(side.prefix, limit=PAGE)
    if not level.after:
        return sorted(level.folders)
    return []


async def _merged(side: Side, cuts: list[bytes]) -> Pages:
    todo = iter(zip(cuts, [*cuts[1:], None], strict=True))
    lanes: deque[_Lane] = deque()
    try:
        while True:
            wanted = AT_ONCE - len(lanes)
            for first, last in itertools.islice(todo, wanted):
                lane = _Lane(side, first, last)
                lanes.append(lane)
            if not lanes:
                return
            async for page in lanes[0].pages():
                yield page
            lanes.popleft()
    finally:
        for lane in lanes:
            await lane.close()


class _Lane:
    """One range, `after` exclusive to `last` inclusive, read ahead by a task of its own."""

    def __init__(self, side: Side, after: bytes, last: bytes | None) -> None:
        self._side = side
        self._after = after
        self._last = last
        self._queue: asyncio.Queue[Sequence[Entry] | BaseException | None] = asyncio.Queue(WAITING)
        self._task = asyncio.create_task(self._read())

    async def _read(self) -> None:
        """The pages of one range, in a row of their own, ahead of who takes them."""
        try:
            listed: Any = self._side.listed(after=self._after)
            async for page in listed:
                done = self._last is not None and page[-1].key >= self._last
                if done:
                    page = [e for e in page if e.key <= self._last]
                if page:
                    await self._queue.put(page)
                if done:
                    break
            await listed.aclose()
            await self._queue.put(None)
        except Exception as exc:  # noqa: BLE001 - raised where the pages are taken
            await self._queue.put(exc)

    async def pages(self) -> Pages:
        while (found := await self._queue.get()) is not None:
            if isinstance(found, BaseException):
                raise found
            yield found

    async def close(self) -> None:
        self._task.cancel()
        await asyncio.gather(self._task, return_exceptions=True)
