"""Feeds two listings and the ledger to the merge, each one page ahead."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Sequence
from typing import Any

from pinecart.core.errors import Missing
from pinecart.core.listing import Ascending, Merge

Pages = AsyncIterator[Sequence[Any]]


async def absent_is_empty(pages: Pages) -> Pages:
    """A far place that isn't there yet holds nothing. (A source that isn't there is an error instead.)"""
    try:
        async for page in pages:
            yield page
    except Missing as exc:
        if exc.code != "store.missing":
            raise


class _Ahead:
    """One side, its next page being fetched while the last one is used."""

    def __init__(self, pages: Pages, whose: str) -> None:
        self._pages = pages
        self._check = Ascending(whose)
        self._next: asyncio.Future[Sequence[Any] | None] = asyncio.ensure_future(self._fetch())

    async def _fetch(self) -> Sequence[Any] | None:
        return await anext(self._pages, None)

    async def page(self) -> Sequence[Any] | None:
        page = await self._next
        if page is None:
            return None
        self._next = asyncio.ensure_future(self._fetch())
        return self._check.check(page)

    async def close(self) -> None:
        self._next.cancel()
        await asyncio.gather(self._next, return_exceptions=True)
        close: Callable[[], Any] | None = getattr(self._pages, "aclose", None)
        if close:
            await close()


async def merged(source: Pages, far: Pages, ledger: Pages) -> AsyncIterator[tuple[bytes, Any, Any, Any]]:
    """Yield (key, source entry, far entry, ledger row) in key order. Raises Incomplete on a listing out of order."""
    merge = Merge()
    sides = [_Ahead(source, "the source"), _Ahead(far, "the far side"), _Ahead(ledger, "the ledger")]
    try:
        while (side := merge.lacking()) is not None:
            merge.feed(side, await sides[side].page())
            for found in merge.ready():
                yield found
        for found in merge.ready():
            yield found
    finally:
        for each in sides:
            await each.close()
