"""Listings of servers that don't promise the order of bytes: held on disk while they come, and
given in order, in bounded memory.
"""

from __future__ import annotations

import heapq
import tempfile
from collections.abc import AsyncIterator, Iterator
from operator import attrgetter, lt
from typing import IO

import orjson

from pinecart.core.entries import Entry

AT_ONCE = 500  # entries that are held of each run
MOST_RUNS = 64  # that are merged together
_KEY = attrgetter("key")


async def in_order(pages: AsyncIterator[list[Entry]]) -> AsyncIterator[list[Entry]]:
    """All entries, ascending by key, whatever order the pages come in. One page alone never goes
    to the disk.
    """
    first = await anext(pages, None)
    second = await anext(pages, None)
    if first is None or second is None:
        if first:
            yield sorted(first, key=_KEY)
        return
    with tempfile.TemporaryFile() as file:
        runs = SortedRuns(file)
        runs.add(first)
        runs.add(second)
        async for page in pages:
            runs.add(page)
        for page in runs.pages():
            yield page


class SortedRuns:
    """Sorted runs in one file, each of some chunks. What comes in order is one run."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file = file
        self._runs: list[list[int]] = []  # where the chunks of each begin
        self._last = b""

    def add(self, page: list[Entry]) -> None:
        """In whatever order."""
        if not page:
            return
        keys = [entry.key for entry in page]
        is_in_order = all(map(lt, keys, keys[1:]))
        if not is_in_order:
            page = sorted(page, key=_KEY)
        if not self._runs or page[0].key <= self._last:
            self._runs.append([])
        self._last = page[-1].key
        for at in range(0, len(page), AT_ONCE):
            chunk = page[at : at + AT_ONCE]
            self._runs[-1].append(self._written(chunk))

    def _written(self, chunk: list[Entry]) -> int:
        """Where: one line each, whatever bytes its keys have, and what else a listing tells."""
        at = self._file.seek(0, 2)
        rows = []
        for entry in chunk:
            key = entry.key.decode("latin-1")
            rows.append((key, entry.size, entry.modified_ns, entry.etag))
        line = orjson.dumps(rows)
        self._file.write(line + b"\n")
        return at

    def pages(self) -> Iterator[list[Entry]]:
        """Also those that are merged in several turns."""
        while len(self._runs) > MOST_RUNS:
            some = self._runs[:MOST_RUNS]
            self._runs = self._runs[MOST_RUNS:]
            in_order = self._merged(some)
            merged = [self._written(chunk) for chunk in _in_chunks(in_order)]
            self._runs.append(merged)
        if len(self._runs) == 1:
            only = self._runs[0]
            yield from map(self._chunk, only)
            return
        in_order = self._merged(self._runs)
        yield from _in_chunks(in_order)

    def _merged(self, runs: list[list[int]]) -> Iterator[Entry]:
        return heapq.merge(*[self._entries(run) for run in runs], key=_KEY)

    def _entries(self, run: list[int]) -> Iterator[Entry]:
        for at in run:
            yield from self._chunk(at)

    def _chunk(self, at: int) -> list[Entry]:
        self._file.seek(at)
        rows = orjson.loads(self._file.readline())
        return [Entry(key.encode("latin-1"), *rest) for key, *rest in rows]


def _in_chunks(entries: Iterator[Entry]) -> Iterator[list[Entry]]:
    chunk: list[Entry] = []
    for entry in entries:
        chunk.append(entry)
        if len(chunk) == AT_ONCE:
            yield chunk
            chunk = []
    if chunk:
        yield chunk
