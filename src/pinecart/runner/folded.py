"""The merge where a place takes several spellings of a name for one: both sides and the ledger by the folded name.

The spelling that lies there stays; the source's own goes along as `was`, like that of a renamed file. Two names in one
fold on one side are a name-clash, and all of them are refused.
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
from pinecart.runner.feed import SORT_ROWS, Pages, Some, kept_on_disk, merged
from pinecart.runner.side import Side

PAGE = 1000


class OneName(NamedTuple):
    """What is one name at either place, and whether the target takes it for one."""

    folding: Folding
    at_target: bool
    scratch: str


async def one_name(source: Side, target: Side, scratch: str, *, only_look: bool = False) -> OneName:
    """Asked of the places themselves. only_look: nothing is written at the target to find out."""
    here = (await source.store.abilities(source.prefix)).folding
    able = await target.store.abilities(target.prefix)
    if able.has_folders and not only_look:
        able = await target.store.probe(target.prefix)
    return OneName(here.and_that_of(able.folding), able.folding != EXACT, scratch)


async def matched(source: Pages, far: Pages, ledger: Pages, names: OneName) -> AsyncGenerator[Some, None]:
    """Like `merged`, by what is one name there. Raises Incomplete on a listing out of order."""
    if names.folding == EXACT:
        async for some in merged(source, far, ledger):
            yield some
        return
    with contextlib.ExitStack() as files:
        sides = [
            await _sorted(number, pages, whose, names, files)
            for number, (pages, whose) in enumerate(
                [(source, "the source"), (far, "the far side"), (ledger, "the ledger")]
            )
        ]
        groups = itertools.groupby(heapq.merge(*sides), key=lambda found: found[0])
        each = itertools.chain.from_iterable(_in_one_fold(list(group), names) for _, group in groups)
        while page := list(itertools.islice(each, PAGE)):
            yield page


async def _sorted(
    number: int, pages: Pages, whose: str, names: OneName, files: contextlib.ExitStack
) -> Iterator[tuple[bytes, int, Any]]:
    """(folded key, number of the side, item) in this order, on disk where there are many."""
    check, held, runs = Ascending(whose), list[tuple[bytes, int, Any]](), list[Iterator[Any]]()
    async for page in pages:
        items = check.check(page) if number < 2 else map(Row.read, check.check(page))
        held += [(names.folding.fold(item[0]), number, item) for item in items]
        if len(held) >= SORT_ROWS:
            runs.append(kept_on_disk(sorted(held), files, names.scratch))
            held = []
    return heapq.merge(*runs, sorted(held))


def _in_one_fold(group: Sequence[tuple[bytes, int, Any]], names: OneName) -> Iterator[Found]:
    sources, fars, rows = ({item[0]: item for _, side, item in group if side == n} for n in range(3))
    for found in (sources, fars):  # a folder of its own in two spellings is one folder
        for key in list(found)[1:]:
            if found[key].is_folder:
                del found[key]
    if len(sources) > 1 or len(fars) > 1:
        for key in sorted({*sources, *fars, *rows}):
            yield key, _clashing(key, sources.get(key), fars.get(key)), fars.get(key), rows.get(key)
        return
    entry, there = next(iter(sources.values()), None), next(iter(fars.values()), None)
    spellings = [x.key for x in (entry, there) if x is not None]
    row: Row | None = next((rows[k] for k in spellings if k in rows), None)
    if row is None and names.at_target:
        row = next(iter(rows.values()), None)
    if row is not None and not names.at_target and there is not None and row.key != there.key:
        row = None  # an object of another name was remembered
    for other in rows.values():
        if other is not row:
            yield other.key, None, None, other
    if row is None and not spellings:
        return
    key = row.key if row is not None else there.key if there is not None else spellings[0]
    if entry is not None and entry.key != key:
        entry = entry._replace(key=key, was=entry.source_key)
    yield key, entry, there._replace(key=key) if there is not None else None, row


def _clashing(key: bytes, entry: Entry | None, there: Entry | None) -> Entry | None:
    """A name that is refused: the source's, or one that lies there and must not be taken for what the source lacks."""
    known = entry or there
    return known._replace(key=key, was=entry.source_key if entry else key, fault="name-clash") if known else None
