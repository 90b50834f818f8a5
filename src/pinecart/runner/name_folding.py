"""The merge where a place takes several spellings of a name for one: both sides and the ledger by
the folded name.

The spelling that lies there stays; the source's own goes along as `was`, like that of a renamed
file. Two names in one fold on one side are a name-clash, and all of them are refused.
"""

from __future__ import annotations

import contextlib
import heapq
import itertools
from collections.abc import AsyncGenerator, Iterator, Sequence
from typing import Any, NamedTuple

from pinecart.core.entries import Entry, Row
from pinecart.core.folding import EXACT, Folding
from pinecart.core.listing import Ascending, Found
from pinecart.runner.listing_streams import (
    Pages,
    Some,
    absent_is_empty,
    kept_on_disk,
    merged,
    nothing,
)
from pinecart.runner.scratch import Scratch
from pinecart.runner.side import Side

PAGE = 1000


class OneName(NamedTuple):
    """What is one name at either place, and whether the target takes it for one."""

    folding: Folding
    at_target: bool
    scratch: Scratch


async def one_name(
    source: Side, target: Side, scratch: Scratch, *, only_look: bool = False
) -> OneName:
    """Asked of the places themselves. only_look: nothing is written at the target to find out."""
    here = (await source.store.abilities(source.prefix)).folding
    able = await target.store.abilities(target.prefix)
    if able.has_folders and not only_look:
        able = await target.store.probe(target.prefix)
    return OneName(here.and_that_of(able.folding), able.folding != EXACT, scratch)


async def matched(
    source: Pages, far: Pages, ledger: Pages, names: OneName
) -> AsyncGenerator[Some, None]:
    """Like `merged`, by what is one name there. Raises Incomplete on a listing out of order."""
    if names.folding == EXACT:
        async for some in merged(source, far, ledger):
            yield some
        return
    with contextlib.ExitStack() as files:
        groups = await _groups(source, far, ledger, names, files)
        each = itertools.chain.from_iterable(_in_one_fold(group, names) for group in groups)
        while page := list(itertools.islice(each, PAGE)):
            yield page


class Beside(NamedTuple):
    """One name at two places.

    clash: there are several spellings of it on a side, and one place takes them for one.
    """

    key: bytes
    here: Entry | None
    there: Entry | None
    clash: bool = False


async def beside(
    here: Side, there: Side, scratch: Scratch, after: bytes = b""
) -> AsyncGenerator[list[Beside], None]:
    """Two listings as one, some at a time, from behind a key on.

    Where names fold all of both is listed and sorted first.
    """
    names = await one_name(here, there, scratch, only_look=True)
    if names.folding == EXACT:
        left, right = (absent_is_empty(side.listed(after=after)) for side in (here, there))
        async with contextlib.aclosing(merged(left, right, nothing())) as both:
            async for some in both:
                yield [Beside(key, one, other) for key, one, other, _ in some]
        return
    fold = names.folding.fold
    start = (fold(after), after) if after else None
    with contextlib.ExitStack() as files:
        left, right = (absent_is_empty(side.listed()) for side in (here, there))
        for group in await _groups(left, right, nothing(), names, files):
            found = _beside_in_one_fold(group)
            if start is not None:
                found = [pair for pair in found if (fold(pair.key), pair.key) > start]
            if found:
                yield found


async def _groups(
    source: Pages, far: Pages, ledger: Pages, names: OneName, files: contextlib.ExitStack
) -> Iterator[list[tuple[bytes, int, Any]]]:
    """What is one name there: each of (folded name, number of the side, item)."""
    sides = [
        await _sorted(0, source, "the source", names, files),
        await _sorted(1, far, "the far side", names, files),
        await _sorted(2, ledger, "the ledger", names, files),
    ]
    together = heapq.merge(*sides)
    groups = itertools.groupby(together, key=lambda found: found[0])
    return (list(group) for _, group in groups)


async def _sorted(
    number: int, pages: Pages, whose: str, names: OneName, files: contextlib.ExitStack
) -> Iterator[tuple[bytes, int, Any]]:
    """(folded key, number of the side, item) in this order, on disk where there are many."""
    fold = names.folding.fold
    scratch = names.scratch
    check = Ascending(whose)
    held: list[tuple[bytes, int, Any]] = []
    runs: list[Iterator[Any]] = []
    async for page in pages:
        for item in check.check(page):
            folded = fold(item[0])
            held.append((folded, number, item))
        if len(held) >= scratch.sort_rows:
            held.sort()
            runs.append(kept_on_disk(held, files, scratch))
            held = []
    held.sort()
    return heapq.merge(*runs, held)


def _beside_in_one_fold(group: Sequence[tuple[bytes, int, Any]]) -> list[Beside]:
    """What lies on both sides under one name; where one has two spellings, each clashes."""
    ones: dict[bytes, Any] = {}
    others: dict[bytes, Any] = {}
    for _, side, item in group:
        of_side = others if side else ones
        of_side[item[0]] = item
    if len(ones) <= 1 and len(others) <= 1:
        one = next(iter(ones.values()), None)
        other = next(iter(others.values()), None)
        last = group[-1][2]  # as it is spelt there, if it is there
        return [Beside(last.key, one, other)]
    found = []
    for key in sorted({*ones, *others}):
        pair = Beside(key, ones.get(key), others.get(key), clash=True)
        found.append(pair)
    return found


def _in_one_fold(group: Sequence[tuple[bytes, int, Any]], names: OneName) -> Iterator[Found]:
    """What is found of one name, under the spelling by which it is remembered."""
    sources, fars, rows = (
        {item[0]: item for _, side, item in group if side == n} for n in range(3)
    )
    _as_one_folder(sources)
    _as_one_folder(fars)
    if len(sources) > 1 or len(fars) > 1:
        for key in sorted({*sources, *fars, *rows}):
            far = fars.get(key)
            yield key, _clashing(key, sources.get(key), far), far, rows.get(key)
        return
    entry: Entry | None = next(iter(sources.values()), None)
    there: Entry | None = next(iter(fars.values()), None)
    row = _remembered(rows, entry, there, names)
    for other in rows.values():
        if other is not row:
            yield other.key, None, None, other
    known = row or there or entry
    if known is None:
        return
    key = known.key
    if entry is not None and entry.key != key:
        entry = entry._replace(key=key, was=entry.source_key)
    if there is not None:
        there = there._replace(key=key)
    yield key, entry, there, row


def _as_one_folder(found: dict[bytes, Entry]) -> None:
    """A folder in two spellings is one folder: the first stays, and what lies in either of them
    lies in it.
    """
    for key in list(found)[1:]:
        if found[key].is_folder:
            del found[key]


def _remembered(
    rows: dict[bytes, Row], entry: Entry | None, there: Entry | None, names: OneName
) -> Row | None:
    """The row that speaks of what is here or there, in either's spelling.

    Where it is the far side that folds names, of any spelling; otherwise a row of another spelling
    than the far side's is of another object.
    """
    spelt = [side.key for side in (entry, there) if side is not None and side.key in rows]
    row = rows[spelt[0]] if spelt else None
    if names.at_target:
        return row or next(iter(rows.values()), None)
    if row is not None and there is not None and row.key != there.key:
        return None
    return row


def _clashing(key: bytes, entry: Entry | None, there: Entry | None) -> Entry | None:
    """A name that is refused: the source's, or one that lies there and must not be taken for what
    the source lacks.
    """
    known = entry or there
    if known:
        return known._replace(key=key, was=entry.source_key if entry else key, fault="name-clash")
    return None
