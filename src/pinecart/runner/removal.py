"""Takes away what was decided: each object is confirmed just before, journalled, and only then
removed or cleared.
"""

from __future__ import annotations

import itertools
import time
from functools import partial
from typing import IO, NamedTuple

from pinecart.core.decide import Decision, Intent, Reason
from pinecart.core.entries import Aside, Entry, Likeness, Row, fingerprint, likeness
from pinecart.core.errors import Corrupt, Halting, Missing, StoreError, Taken
from pinecart.core.lifecycle import Phase
from pinecart.core.places import show
from pinecart.runner.content_comparison import content_crc
from pinecart.runner.decided_items import Item, spilled
from pinecart.runner.leg_context import Ledger, LegContext
from pinecart.runner.leg_tally import LegTally
from pinecart.runner.object_transfer import ObjectTransfer
from pinecart.runner.pool import Pool
from pinecart.runner.set_aside import Away, SideRemover

PROOFS = ("server-verified", "read-back", "server-copy")


class _Confirmed(NamedTuple):
    """One object that may go.

    aside: None if it isn't kept.   row: what the ledger remembers then.
    """

    item: Item
    aside: Aside | None
    row: Row | None


class Removal:
    def __init__(
        self,
        leg: LegContext,
        ledger: Ledger,
        tally: LegTally,
        transfer: ObjectTransfer,
        pool: Pool,
    ) -> None:
        self._leg = leg
        self._ledger = ledger
        self._tally = tally
        self._pool = pool
        self._at_source = SideRemover("source", leg.source, transfer, leg.aside_policy)
        self.at_target = SideRemover("target", leg.target, transfer, leg.aside_policy)

    async def all_of(self, decisions: IO[str], wanted: Decision, planned_at: float) -> bool:
        """Remove or clear what was planned, a few hundred at a time.

        False: the plan is too old to go on by.
        """
        items = spilled(decisions, wanted)
        while batch := list(itertools.islice(items, self._leg.pace.at_once)):
            if self._leg.stopping():
                return True
            if time.monotonic() - planned_at > self._leg.pace.plan_good_s:
                return False
            self._tally.phase(Phase.REMOVING)
            await self._tally.flush()  # every copy that justifies a clearing is on record before it
            if wanted is Decision.CLEAR:
                batch = await self._without_awaited(batch)
            confirmed = await self._confirmed(batch)
            await self._take(confirmed)
        return True

    async def _confirmed(self, batch: list[Item]) -> list[_Confirmed]:
        """Those that may go, once that is committed:

        what is set aside, what the ledger remembers.
        """
        ready: list[_Confirmed] = []
        for item in batch:
            confirm = partial(self._confirm, item, ready)
            await self._pool.add(confirm)
        await self._pool.drain()
        asides = [one.aside for one in ready if one.aside]
        rows = [(self._leg.number, one.row) for one in ready if one.row]
        await self._ledger.before(asides, rows)
        return ready

    async def _take(self, ready: list[_Confirmed]) -> None:
        for one in ready:
            await self._pool.add(partial(self._take_one, one))
        await self._pool.drain()

    async def _without_awaited(self, batch: list[Item]) -> list[Item]:
        """What another job has to take first stays at the source for now."""
        prefix = self._leg.source.prefix
        items: dict[bytes, Item] = {}
        wanted: list[tuple[bytes, Entry]] = []
        for item in batch:
            if item.entry:
                key = prefix + item.entry.source_key
                items[key] = item
                wanted.append((key, item.entry))
        lacking = await self._ledger.lacking(self._leg.number, wanted)
        for key in lacking:
            self._tally.left(items[key], Reason.AWAITED)
        return [item for key, item in items.items() if key not in lacking]

    async def _confirm(self, item: Item, ready: list[_Confirmed]) -> None:
        """Whether this one object may go now. What can't be confirmed stays, and is listed."""
        try:
            if item.verdict.decision is Decision.CLEAR:
                confirmed = await self._confirm_clearing(item)
            else:
                confirmed = await self._confirm_removal(item)
        except Halting:
            raise
        except StoreError as exc:
            await self._not_taken(item, None, exc, 0.0)
        else:
            if confirmed:
                ready.append(confirmed)

    async def _confirm_clearing(self, item: Item) -> _Confirmed | None:
        """Only what is proven at its place, and old enough."""
        assert item.entry is not None
        row = await self._proven(item)
        if row is None:
            return None
        whole = self._leg.source.prefix + item.entry.source_key
        aside = await self._at_source.aside_of(item.key, whole, item.entry)
        return _Confirmed(item, aside, row)

    async def _confirm_removal(self, item: Item) -> _Confirmed:
        """Only what the source, asked by name, does not have; unless a person asked for it."""
        assert item.far is not None
        key = item.key
        leg = self._leg
        is_asked = leg.rules.intent is Intent.REMOVE
        if not is_asked and not await leg.source.store.is_absent(leg.source.prefix + key):
            message = f"{show(key)} is at the source again. It was not removed."
            raise Taken(message, code="source-back")
        whole = leg.target.prefix + key
        aside = await self.at_target.aside_of(key, whole, item.far)
        return _Confirmed(item, aside, None)

    async def _proven(self, item: Item) -> Row | None:
        """The ledger row of a copy whose source may be cleared.

        None: not yet. Raises StoreError where it isn't proven.
        """
        assert item.entry is not None and item.far is not None
        entry = item.entry
        store = self._leg.target.store
        whole = self._leg.target.prefix + item.key
        able = await self._leg.source.store.abilities(self._leg.source.prefix)
        if (
            able.has_folders
            and time.time_ns() - max(entry.modified_ns or 0, entry.ctime_ns)
            < self._leg.settle_s * 1e9
        ):
            self._tally.left(item, Reason.TOO_YOUNG)
            return None
        stat = await store.stat(whole)
        if likeness(stat.entry, fingerprint(item.far)) is not Likeness.SAME:
            raise Taken(f"{show(item.key)} is not as it was placed. Its source was not cleared.")
        crc = item.crc
        proof = item.proof
        if not crc:
            crc = await content_crc(
                self._leg.source.store, self._leg.source.prefix + entry.source_key, entry
            )
        if (
            proof not in PROOFS
            and stat.crc != crc
            and await content_crc(store, whole, stat.entry) != crc
        ):
            raise Corrupt(
                f"{show(item.key)}: what lies there is not what was sent. Its source was not "
                "cleared."
            )
        return Row(
            item.key,
            fingerprint(entry),
            fingerprint(stat.entry),
            crc,
            cleared=True,
            run=self._leg.run,
        )

    async def _take_one(self, one: _Confirmed) -> None:
        item = one.item
        started = time.monotonic()
        self._tally.progress.start(item.key, 0)
        try:
            away = await self._take_away(item, one.aside)
        except Halting:
            raise
        except StoreError as exc:
            self._tally.progress.end(item.key, 0)
            await self._not_taken(item, one.aside, exc, time.monotonic() - started)
            return
        self._tally.went_well()
        self._tally.progress.end(item.key, 0)
        seconds = time.monotonic() - started
        record = self._tally.record(
            item, seconds=seconds, guarded=away.guarded, row=one.row, kept=away.kept, tries=1
        )
        await self._tally.add(record)
        if item.verdict.decision is Decision.REMOVE:
            self._tally.dropped.append(item.key)

    async def _not_taken(
        self, item: Item, aside: Aside | None, exc: StoreError, seconds: float
    ) -> None:
        """That somebody else has removed what was to be removed is no problem."""
        is_removal = item.verdict.decision is Decision.REMOVE
        if is_removal and isinstance(exc, Missing) and await self._is_gone(item, aside):
            self._tally.left(item, Reason.ROW_DROPPED)
            self._tally.dropped.append(item.key)
        else:
            await self._tally.failed(item, exc, seconds)

    async def _is_gone(self, item: Item, aside: Aside | None) -> bool:
        """And not by a move of ours whose answer was lost."""
        target = self._leg.target
        places = [target.prefix + item.key]
        if aside and aside.at:
            places.append(aside.at)
        try:
            return all([await target.store.is_absent(place) for place in places])
        except Halting:
            raise
        except StoreError:
            return False

    async def _take_away(self, item: Item, aside: Aside | None) -> Away:
        """At the target, what the intent removes; at the source, what was handed over and is proven
        to have arrived.
        """
        leg = self._leg
        far = item.far
        entry = item.entry
        if item.verdict.decision is Decision.REMOVE:
            assert far is not None
            whole = leg.target.prefix + item.key
            return await self.at_target.take_away(whole, far, aside)
        assert entry is not None
        whole = leg.source.prefix + entry.source_key
        return await self._at_source.take_away(whole, entry, aside)
