"""One look at the sources of a watched definition: everything is listed, and what is not known is
told.
"""

from __future__ import annotations

import asyncio
import time
from array import array
from collections import defaultdict
from collections.abc import Iterable
from typing import NamedTuple

from pinecart.core.decide import Reason
from pinecart.core.definition import Definition, Leg
from pinecart.core.digests import NUMBERS, digest_of, is_among
from pinecart.core.entries import Entry, fingerprint
from pinecart.core.ports import Store
from pinecart.core.selection import Selection
from pinecart.core.watching import SourceLook
from pinecart.drivers import open_store
from pinecart.json_object import JsonObject
from pinecart.runner.listing_streams import source_entries
from pinecart.runner.scratch import Scratch
from pinecart.runner.side import Side, identity_of
from pinecart.service.config.settings import STATE
from pinecart.service.ledger.selectors import scope_known, taken_of

MOST_ASKED = 5000  # fresh files of which the ledger is asked whether a run has taken them meanwhile


class _Fresh(NamedTuple):
    """A file that was not known."""

    leg: int
    key: bytes
    fingerprint: str


def look_at_sources(
    definition: Definition,
    specs: dict[str, JsonObject],
    known: array[int],
    settled_s: int,
) -> SourceLook:
    """specs: of all stores of the definition. known: in order. Raises StoreError."""
    look = _Look(definition, known, settled_s)
    stores = {name: open_store(spec) for name, spec in specs.items()}
    asyncio.run(look.at(stores))
    return look.seen()


class _Look:
    def __init__(self, definition: Definition, known: array[int], settled_s: int) -> None:
        self._definition = definition
        self._known = known
        self._settled_ns = settled_s * 10**9
        self._now_ns = time.time_ns()
        self._digests = array(NUMBERS)
        self._fresh: dict[int, _Fresh] = {}
        self._at_rest: set[int] = set()
        self._of_age_ns: int | None = None
        self._scopes: dict[int, int] = {}

    async def at(self, stores: dict[str, Store]) -> None:
        try:
            for number, leg in enumerate(self._definition.legs):
                if leg.is_on:
                    await self._list(number, leg, stores)
        finally:
            for store in stores.values():
                await store.close()

    async def _list(self, number: int, leg: Leg, stores: dict[str, Store]) -> None:
        side = Side(stores[leg.source.store], leg.source.path)
        self._scopes[number] = await asyncio.to_thread(
            scope_known, self._definition.job, identity_of(leg, stores)
        )
        await side.store.check_place(side.prefix)
        able = await side.store.abilities(side.prefix)
        selection = leg.selection
        pages = source_entries(side, leg.one, leg.renaming, Scratch(str(STATE.scratch)))
        async for page in pages:
            for entry in page:
                if self._is_taken(entry, selection):
                    self._add(number, entry, has_times=able.keeps_times)

    def _is_taken(self, entry: Entry, selection: Selection) -> bool:
        """Whether the job would take it. One that only is too young, or will soon be old enough, is
        looked at again by then.
        """
        if entry.is_folder or entry.fault:
            return False
        why_not = selection.why_not(entry.source_key, entry, self._now_ns)
        if why_not is Reason.OTHER_TIME:
            self._note_age(entry, selection)
        return why_not is None

    def _note_age(self, entry: Entry, selection: Selection) -> None:
        """Of a file that is too young: when it comes of age."""
        if selection.unchanged_for_s is None or entry.modified_ns is None:
            return
        of_age_ns = entry.modified_ns + selection.unchanged_for_s * 10**9
        if of_age_ns >= self._now_ns:
            earlier = self._of_age_ns is None or of_age_ns < self._of_age_ns
            if earlier:
                self._of_age_ns = of_age_ns

    def _add(self, number: int, entry: Entry, *, has_times: bool) -> None:
        now_so = fingerprint(entry)
        digest = digest_of(number, entry.key, now_so)
        self._digests.append(digest)
        if is_among(self._known, digest):
            return
        self._fresh[digest] = _Fresh(number, entry.key, now_so)
        if has_times and entry.modified_ns is not None:
            age_ns = self._now_ns - entry.modified_ns
            if age_ns >= self._settled_ns:
                self._at_rest.add(digest)

    def seen(self) -> SourceLook:
        """Off the event loop: the ledger is asked."""
        taken = self._taken_meanwhile()
        fresh = frozenset(self._fresh.keys() - taken)
        known_still = len(self._digests) - len(self._fresh)
        of_age_in_s = None
        if self._of_age_ns is not None:
            of_age_in_s = (self._of_age_ns - self._now_ns) / 10**9 + 1
        return SourceLook(
            digests=array(NUMBERS, sorted(self._digests)),
            fresh=fresh,
            at_rest=frozenset(self._at_rest & fresh),
            gone=len(self._known) - known_still,
            of_age_in_s=of_age_in_s,
        )

    def _taken_meanwhile(self) -> set[int]:
        """Of the fresh files those that a run has carried already, as they are now."""
        if len(self._fresh) > MOST_ASKED:
            return set()
        found: set[int] = set()
        by_leg: dict[int, list[tuple[int, _Fresh]]] = defaultdict(list)
        for digest, file in self._fresh.items():
            by_leg[file.leg].append((digest, file))
        for number, files in by_leg.items():
            found |= self._taken_of_leg(self._scopes[number], files)
        return found

    def _taken_of_leg(self, scope: int, files: Iterable[tuple[int, _Fresh]]) -> set[int]:
        """The digests of those that a run has carried as they are now."""
        by_key = {file.key: (digest, file.fingerprint) for digest, file in files}
        keys = list(by_key)
        taken: dict[bytes, str] = {}
        for start in range(0, len(keys), 500):
            some = keys[start : start + 500]
            taken |= taken_of(scope, some)
        found = set()
        for key, (digest, now_so) in by_key.items():
            if taken.get(key) == now_so:
                found.add(digest)
        return found
