"""Feeds two listings and the ledger to the merge, each one page ahead."""

from __future__ import annotations

import asyncio
import contextlib
import heapq
import itertools
import pickle
import tempfile
import time
from collections.abc import AsyncGenerator, AsyncIterator, Awaitable, Callable, Iterator, Sequence
from typing import Any

from pinecart.core.entries import Entry
from pinecart.core.errors import Missing
from pinecart.core.listing import Ascending, Found, Merge, Together
from pinecart.core.places import key_of_text
from pinecart.core.renaming import Renaming
from pinecart.runner.ranges import in_ranges
from pinecart.runner.scratch import Scratch
from pinecart.runner.side import Side

Pages = AsyncIterator[Sequence[Any]]
Some = Together | list[Found]
WAITING = 0.5  # of the time for a page: less work than this is waiting
LOOKS = 8  # pages after which it is known whether fetching one keeps the processor busy


async def absent_is_empty(pages: Pages) -> Pages:
    """A far place that isn't there yet holds nothing.

    (A source that isn't there is an error instead.)
    """
    try:
        async for page in pages:
            yield page
    except Missing as exc:
        if exc.code != "store.missing":
            raise


Cuts = Callable[[], Awaitable[list[bytes]]]


async def no_cuts() -> list[bytes]:
    return []


async def far_entries(side: Side, one: tuple[str, str] | None, cuts: Cuts = no_cuts) -> Pages:
    """The far listing, in ranges side by side where it can be cut, or just the one name that
    matters. A place that isn't there is empty.
    """
    if one:
        async for page in _looked_up(side, one[1]):
            yield page
        return
    async for page in absent_is_empty(in_ranges(side, cuts, "all")):
        yield page


async def source_entries(
    side: Side,
    one: tuple[str, str] | None,
    renaming: Renaming | None,
    scratch: Scratch,
    folders: str = "",
    cuts: Cuts = no_cuts,
) -> Pages:
    """The source listing under the names that its files get there, in order of those.

    folders: "", "empty", "all" or "only".
    """
    if one:
        async for page in _looked_up(side, one[0]):
            yield [e._replace(key=key_of_text(one[1]), was=e.key) for e in page]
    elif renaming:
        async for page in renamed(side.listed(folders=folders), renaming, scratch):
            yield page
    else:
        async for page in in_ranges(side, cuts, "all" if folders == "only" else folders):
            yield [e for e in page if e.is_folder] if folders == "only" else page


async def _looked_up(side: Side, name: str) -> Pages:
    key = key_of_text(name)
    try:
        found = (await side.store.stat(side.prefix + key)).entry
    except Missing:
        return
    yield [found._replace(key=key)]


async def leg_rows(pages: Pages, one: tuple[str, str] | None) -> Pages:
    """The ledger's rows; of a leg that carries one file, only that one's."""
    async for page in pages:
        yield page if one is None else [row for row in page if row[0] == key_of_text(one[1])]


async def renamed(pages: Pages, rule: Renaming, scratch: Scratch) -> Pages:
    """Sorted by the new key, on disk in runs; two sources of one key become one entry with a
    fault.
    """
    with contextlib.ExitStack() as files:
        runs: list[Iterator[Entry]] = []
        held: list[Entry] = []
        counter = 0
        check = Ascending("the source")
        async for page in pages:
            for entry in check.check(page):
                counter += 1
                new = rule.new_key(entry, counter)
                held.append(
                    entry._replace(key=new, was=entry.key, fault=entry.fault or _unsafe(new))
                )
            if len(held) >= scratch.sort_rows:
                runs.append(kept_on_disk(sorted(held), files, scratch))
                held = []
        page_out: list[Entry] = []
        for key, group in itertools.groupby(heapq.merge(*runs, sorted(held)), key=lambda e: e.key):
            first, *others = group
            page_out.append(
                first._replace(fault="name-clash") if others else first._replace(key=key)
            )
            if len(page_out) == 1000:
                yield page_out
                page_out = []
        if page_out:
            yield page_out


def _unsafe(key: bytes) -> str:
    if key and not key.startswith(b"/"):
        return ""
    return "unsafe-name"


def kept_on_disk(items: list[Any], files: contextlib.ExitStack, scratch: Scratch) -> Iterator[Any]:
    """Entries or rows on disk, read back one by one."""
    file = files.enter_context(tempfile.TemporaryFile(dir=scratch.folder))  # noqa: SIM115 - closed with the stack
    for item in items:
        pickle.dump(item, file)
    file.seek(0)
    count = len(items)
    return (pickle.load(file) for _ in range(count))  # noqa: S301 - our own, written just now


async def nothing() -> Pages:
    """A side that holds nothing."""
    return
    yield []


class _Ahead:
    """One side. Its next page is fetched while the last one is used, where fetching is waiting for
    others.

    Where it is work of our own processor's, as in a folder whose names are in memory, two threads
    at once would only be in each other's way: each call to the kernel gives the interpreter to the
    other one, and waits to have it back.

    may_wait: whether fetching is ever waiting; the ledger's, a file of this machine, is not.
    """

    def __init__(self, pages: Pages, whose: str, *, may_wait: bool = True) -> None:
        """whose: side, for what is said of pages that come in no order.   may_wait: whether others
        are asked meanwhile.
        """
        self._pages = pages
        self._may_wait = may_wait
        self._check = Ascending(whose)
        self._next: asyncio.Future[Sequence[Any] | None] | None = asyncio.ensure_future(
            self._fetch()
        )
        self._looks = 0
        self._waited = 0.0
        self._worked = 0.0

    async def _fetch(self) -> Sequence[Any] | None:
        return await anext(self._pages, None)

    async def page(self) -> Sequence[Any] | None:
        """The next page; None: that was the last. One is fetched ahead where waiting for it has
        turned out to take longer than working on it.
        """
        if self._next is None:
            self._next = asyncio.ensure_future(self._fetch())
        began = time.process_time()
        since = time.monotonic()
        page = await self._next
        self._next = None
        if page is None:
            return None
        if not self._may_wait:
            return self._check.check(page)
        if self._looks < LOOKS:
            self._looks += 1
            self._waited += time.monotonic() - since
            self._worked += time.process_time() - began
        elif self._worked < self._waited * WAITING:
            self._next = asyncio.ensure_future(self._fetch())
        return self._check.check(page)

    async def close(self) -> None:
        """A page on its way is given up, and the listing itself closed."""
        if self._next is not None:
            self._next.cancel()
            await asyncio.gather(self._next, return_exceptions=True)
        close: Callable[[], Any] | None = getattr(self._pages, "aclose", None)
        if close:
            await close()


async def merged(source: Pages, far: Pages, ledger: Pages) -> AsyncGenerator[Some, None]:
    """Yield (key, source entry, far entry, ledger row) in key order, some at a time. Raises
    Incomplete on a listing out of order.
    """
    merge = Merge()
    sides = [
        _Ahead(source, "the source"),
        _Ahead(far, "the far side"),
        _Ahead(ledger, "the ledger", may_wait=False),
    ]
    try:
        while (side := merge.lacking()) is not None:
            merge.feed(side, await sides[side].page())
            for some in merge.ready():
                yield some
    finally:
        for each in sides:
            await each.close()
