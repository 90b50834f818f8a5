"""Compares both sides of a leg and its ledger: nothing is transferred, and nothing is written."""

from __future__ import annotations

import asyncio
import time
from collections import Counter
from collections.abc import AsyncIterator
from functools import partial
from typing import NamedTuple, Protocol

from pinecart.core.audit import AuditRules, Depth, Finding, Found, compare
from pinecart.core.columns import Rows
from pinecart.core.decide import Comparison, Decision, LookAnswer, Reason
from pinecart.core.entries import Entry, Row
from pinecart.core.errors import Halting, StoreError
from pinecart.core.folding import EXACT
from pinecart.core.keeping import Keep
from pinecart.core.lifecycle import Phase
from pinecart.runner.concurrency import ConcurrencyController
from pinecart.runner.content_comparison import (
    Pair,
    abilities_at,
    compare_contents,
    extra_of,
    known_crc,
)
from pinecart.runner.leg_context import LegContext
from pinecart.runner.listing_streams import far_entries, leg_rows, source_entries
from pinecart.runner.name_folding import matched, one_name
from pinecart.runner.pool import Pool
from pinecart.runner.progress import Progress
from pinecart.runner.records import Record, Recorder

ALL_EXTRAS = Keep(permissions=True, attributes=True)
MARK_EVERY_S = 2.0


class Checkpoint(NamedTuple):
    """How far an audit has come: every name before `key` was looked at, and `counted` of those that
    are alike.
    """

    key: bytes
    counted: list[tuple[str, int, int]]


class KeepsCheckpoints(Protocol):
    """Outlives the process."""

    def reached(self, leg: int, at: Checkpoint) -> None: ...
    def reached_before(self, leg: int) -> Checkpoint | None: ...


class LegAudit:
    """Of one leg."""

    def __init__(
        self,
        leg: LegContext,
        rules: AuditRules,
        recorder: Recorder,
        progress: Progress,
        checkpoints: KeepsCheckpoints,
    ) -> None:
        self._leg = leg
        self._rules = rules
        self._recorder = recorder
        self._progress = progress
        self._checkpoints = checkpoints
        self._alike: Counter[str] = Counter()
        self._bytes: Counter[str] = Counter()
        # names in their order that are looked at, or were while one before them still is: of each
        # how it is known to be alike, and its size
        self._open: dict[bytes, tuple[str, int] | None] = {}
        self._marks = True
        self._marked_at = time.monotonic()

    def counted(self) -> list[tuple[str, str, int, int]]:
        """What is alike, by how that is known."""
        leave = Decision.LEAVE.value
        return [(leave, why, n, self._bytes[why]) for why, n in self._alike.items()]

    async def go(self, rows: AsyncIterator[Rows]) -> None:
        """Raises StoreError or Incomplete where a listing is not to be trusted."""
        leg = self._leg
        self._progress.enter(Phase.CONNECTING)
        for side in (leg.source, leg.target):
            await side.store.check_place(side.prefix)
        self._progress.enter(Phase.LISTING)
        done = self._taken_up()
        here = source_entries(leg.source, leg.one, leg.renaming, leg.scratch)
        there = far_entries(leg.target, leg.one)
        names = await one_name(leg.source, leg.target, leg.scratch, only_look=True)
        self._marks = names.folding == EXACT  # else they come in another order
        async with Pool(ConcurrencyController(leg.most_at_once)) as pool:
            async for some in matched(here, there, leg_rows(rows, leg.one), names):
                if leg.stopping():
                    return
                for key, entry, far, row in some:
                    if key >= done and self._is_asked(entry, far, row, key):
                        await self._look(key, entry, far, row, pool)
            await pool.drain()
        self._progress.listing_complete = True

    def _taken_up(self) -> bytes:
        """Before which name all was looked at before this process took the audit up."""
        before = self._checkpoints.reached_before(self._leg.number)
        if before is None:
            return b""
        for why, objects, size in before.counted:
            self._alike[why] += objects
            self._bytes[why] += size
        self._progress.listed += sum(self._alike.values())
        return before.key

    async def _done(self, key: bytes, alike: tuple[str, int] | None) -> None:
        """A closer look is over. What comes of it counts once all names before are done, too."""
        self._open[key] = alike or ("", 0)
        while self._open:
            first = next(iter(self._open))
            result = self._open[first]
            if result is None:
                await self._mark_if_due(first)
                break
            del self._open[first]
            if result[0]:
                self._is_alike(*result)

    async def _mark_if_due(self, key: bytes) -> None:
        """Whoever takes the audit up goes on from there."""
        now = time.monotonic()
        if not self._marks or now - self._marked_at < MARK_EVERY_S:
            return
        self._marked_at = now
        counted = [(why, n, self._bytes[why]) for why, n in self._alike.items()]
        reached = Checkpoint(key, counted)
        await self._recorder.flush()
        number = self._leg.number
        await asyncio.to_thread(self._checkpoints.reached, number, reached)

    def _is_asked(
        self, entry: Entry | None, far: Entry | None, row: Row | None, key: bytes
    ) -> bool:
        """A folder that is there alone is nothing that this leg brought."""
        is_new = entry is None and row is None
        if is_new and far is not None and far.is_place:
            return False
        name = entry.source_key if entry else key
        why_not = self._leg.selection.why_not(name, entry, time.time_ns())
        return not why_not

    async def _look(
        self, key: bytes, entry: Entry | None, far: Entry | None, row: Row | None, pool: Pool
    ) -> None:
        self._progress.listed += 1
        found = compare(entry, far, row)
        if found:
            await self._note(key, entry or far, found)
        elif entry is None or far is None or entry.is_folder:
            return
        elif self._rules.depth is Depth.NAMES:
            self._is_alike(Reason.SAME.value, entry.size)
        elif not self._rules.looks_at(key):
            self._open[key] = None
            await self._done(key, (Reason.SAME.value, entry.size))
        else:
            self._open[key] = None
            await pool.add(partial(self._look_closer, key, entry, far))

    async def _look_closer(self, key: bytes, entry: Entry, far: Entry) -> None:
        """A file that can't be read is a finding of the audit, not its end."""
        try:
            found = await self._differs(key, entry, far)
        except Halting:
            raise
        except StoreError as exc:
            found = Found(Finding.UNREADABLE, exc.message)
        if found:
            await self._note(key, entry, found)
        alike = None if found else (Reason.RECOGNISED.value, entry.size)
        await self._done(key, alike)

    async def _differs(self, key: bytes, entry: Entry, far: Entry) -> Found | None:
        source = self._leg.source
        target = self._leg.target
        source_key = source.prefix + entry.source_key
        far_key = target.prefix + key
        pair = Pair(source.store, source_key, entry, target.store, far_key, far)
        told = await _other_extras(pair)
        if told:
            return Found(Finding.DIFFERS, told)
        if self._rules.depth is not Depth.CONTENT:
            return None
        answer, _ = await compare_contents(pair, Comparison.CHECKSUM)
        if answer is LookAnswer.EQUAL:
            return None
        return Found(Finding.DIFFERS, "Equal in size, and not in content.")

    def _is_alike(self, why: str, size: int) -> None:
        self._alike[why] += 1
        self._bytes[why] += size

    async def _note(self, key: bytes, entry: Entry | None, found: Found) -> None:
        """Findings are written some at a time. entry: at either side, for its size; None: it is at
        neither.
        """
        size = entry.size if entry else 0
        record = Record(
            self._leg.number, key, "finding", found.finding.value, size, message=found.detail
        )
        if self._recorder.take(record):
            await self._recorder.flush()


def _are_others(one: int | None, other: int | None) -> bool:
    """Where both are known."""
    if one is None or other is None:
        return False
    return one != other


async def _other_extras(pair: Pair) -> str:
    """What goes with the two files and differs, as far as both sides keep it; empty: nothing."""
    here = await abilities_at(pair.source, pair.source_key)
    there = await abilities_at(pair.far, pair.far_key)
    if here.at_hand and there.at_hand:
        one = await extra_of(pair.source, pair.source_key, pair.entry, ALL_EXTRAS)
        other = await extra_of(pair.far, pair.far_key, pair.far_entry, ALL_EXTRAS)
        if _are_others(one.mode, other.mode):
            return f"Permissions: {one.mode:o} here, {other.mode:o} there."
        if one.attributes != other.attributes:
            return "Extended attributes differ."
        return ""
    if here.at_hand or there.at_hand:
        return ""
    _, one_time = await known_crc(pair.source, pair.source_key, pair.entry)
    _, other_time = await known_crc(pair.far, pair.far_key, pair.far_entry)
    if _are_others(one_time, other_time):
        return "The time that is kept with it differs."
    return ""
