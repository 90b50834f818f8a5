"""Carries what was decided:

by this process, or in batches by helpers beside it, and writes down how it went.
"""

from __future__ import annotations

import asyncio
import time
from functools import partial
from typing import IO

from pinecart.core.batch import MOST_BYTES, Carried, Task
from pinecart.core.decide import Decision, Intent, Reason, Verdict
from pinecart.core.entries import Entry
from pinecart.core.errors import Halting, StoreError
from pinecart.core.lifecycle import Phase
from pinecart.core.places import dated_name
from pinecart.core.ports import HELD_BYTES
from pinecart.runner.book import Book
from pinecart.runner.carry import Carrier
from pinecart.runner.helping import GIVE_UP_AFTER, GIVEN_OUT, LOOK_S, Helper
from pinecart.runner.items import Item, is_large, of_folder, spill_to
from pinecart.runner.leg_job import Job, Ledger
from pinecart.runner.pacing import Width
from pinecart.runner.pool import Pool
from pinecart.runner.removing import Remover

BLOCKED = 1000


class Acting:
    """For one plan.

    keep: sets aside what is replaced.   clears: where a move writes down what may be cleared
    afterwards.
    """

    def __init__(
        self,
        job: Job,
        ledger: Ledger,
        book: Book,
        carrier: Carrier,
        keep: Remover,
        *,
        width: Width,
        clears: IO[str],
    ) -> None:
        self._job, self._ledger, self._book, self._carrier = job, ledger, book, carrier
        self._keep, self._width, self._clears = keep, width, clears
        self._blocked: list[Item] = []  # something lies in their way that is yet to be removed
        self._gathered: list[Item] = []  # for the next batch
        self._gathered_bytes = 0
        self._came_back: list[Item] = []  # from helpers, untried or without an answer

    async def hand_on(self, item: Item, pool: Pool) -> None:
        """To be carried:

        by this process, or with others of its kind by a helper, where one has room.
        """
        if self._job.crew is None or not self._can_be_given_out(item):
            work, large = partial(self.act, item), is_large(item)
            if not pool.took(work, large=large):
                await pool.add(work, large=large)
            return
        self._gathered.append(item)
        self._gathered_bytes += item.entry.size if item.entry else 0
        if len(self._gathered) >= GIVEN_OUT or self._gathered_bytes > MOST_BYTES - HELD_BYTES:
            items, self._gathered, self._gathered_bytes = self._gathered, [], 0
            if helper := self._job.crew.free():
                await pool.add(partial(self._act_by, helper, items))
            else:
                await self._act_all(items, pool)

    def _can_be_given_out(self, item: Item) -> bool:
        """A small file that is carried as it is.

        What is paced, has a ceiling, or is journalled before, stays with this process.
        """
        if self._book.gave_up or self._job.works_alone():
            return False
        kept = item.far is not None and (
            bool(self._job.days) or item.verdict.reason is Reason.EXISTS
        )
        made_of_parts = item.entry is not None and "-" in item.entry.etag
        return not (kept or made_of_parts or is_large(item) or of_folder(item))

    async def _act_all(self, items: list[Item], pool: Pool, *, again: bool = False) -> None:
        for item in items:
            await pool.add(partial(self.act, item, again=again), large=is_large(item))

    async def all_done(self, pool: Pool) -> None:
        """Wait until all that was handed on is carried, or recorded as a problem."""
        gathered, self._gathered, self._gathered_bytes = self._gathered, [], 0
        await self._act_all(gathered, pool)
        await pool.drain()
        came_back, self._came_back = self._came_back, []
        await self._act_all(came_back, pool, again=True)
        await pool.drain()

    async def unblock(self, pool: Pool) -> None:
        """Once what was to be removed is gone: carry what it was in the way of."""
        blocked, self._blocked = self._blocked, []
        for item in blocked:
            await pool.add(partial(self.act, item, last=True))
        await pool.drain()

    async def _act_by(self, helper: Helper, items: list[Item]) -> None:
        """One batch by another process; what it answers is written down here."""
        self._book.phase(Phase.TRANSFERRING)
        tasks = [Task(i.key, i.entry, i.far) for i in items if i.entry]
        for item in items:
            self._intends(item)
        asked = asyncio.ensure_future(helper.carry(self._job.leg, tasks))
        try:
            while not (await asyncio.wait({asked}, timeout=LOOK_S))[0]:
                if self._job.stopping() or self._job.works_alone():
                    helper.recall()
            refused: Halting | None = None
            for item, result in zip(items, await asked, strict=True):
                if isinstance(result, Carried):
                    await self._record_carried(item, result, result.seconds)
                    self._job.target.store.wrote(result.placed.entry)
                elif isinstance(result, Halting):
                    refused = result
                elif isinstance(result, StoreError):
                    await self._not_carried(item, result, result.facts["seconds"], last=False)
                else:
                    self._came_back.append(item)
            if refused:
                raise refused
        finally:
            asked.cancel()

    async def act(self, item: Item, last: bool = False, again: bool = False) -> None:
        """last:

        nothing that lies in its way will go any more.   again: a helper may have carried it.
        """
        if self._job.stopping():
            return
        assert item.entry is not None
        if self._book.gave_up:
            await self._book.add(
                self._book.record(
                    item,
                    done=False,
                    error="not-tried",
                    message=(
                        f"Not tried, after {GIVE_UP_AFTER} failures in a row: {self._book.gave_up}."
                    ),
                )
            )
            return
        self._book.phase(Phase.TRANSFERRING)
        started = time.monotonic()
        self._book.progress.start(item.key, item.entry.size)
        try:
            replaces, kept = item.far, ""
            if item.verdict.reason is Reason.EXISTS and item.far is not None:
                await self._carrier.keep_aside(
                    item.key, item.far, dated_name(item.key, self._job.stamp)
                )
            elif item.far is not None and self._job.days:
                kept = await self._keep_replaced(item.key, item.far)
            self._intends(item)
            carried = await self._carrier.carry(item.key, item.entry, replaces, again=again)
        except Halting:
            raise
        except StoreError as exc:
            await self._not_carried(item, exc, time.monotonic() - started, last=last)
        else:
            await self._record_carried(item, carried, time.monotonic() - started, kept)

    def _intends(self, item: Item) -> None:
        self._ledger.intends(
            self._job.leg, item.key, item.verdict.decision.value, item.verdict.reason.value
        )

    async def _not_carried(
        self, item: Item, exc: StoreError, seconds: float, *, last: bool
    ) -> None:
        self._book.progress.end(item.key, 0)
        in_the_way = exc.code in ("store.not-a-folder", "store.is-a-folder")
        if (
            in_the_way
            and not last
            and self._job.rules.intent is Intent.MIRROR
            and len(self._blocked) < BLOCKED
        ):
            self._blocked.append(item)
            return
        await self._book.failed(item, exc, seconds)

    async def _record_carried(
        self, item: Item, carried: Carried, seconds: float, kept: str = ""
    ) -> None:
        self._book.went_well()
        self._width.did(carried.size)
        self._book.progress.end(item.key, carried.size)
        lost = {"message": f"Not kept there: {carried.placed.lost}."} if carried.placed.lost else {}
        await self._book.add(
            self._book.record(
                item,
                **lost,
                size=carried.size,
                seconds=seconds,
                crc=carried.row.crc,
                proof=carried.placed.proof,
                guarded=carried.placed.guarded,
                tries=carried.tries,
                row=carried.row,
                kept=kept,
            )
        )
        if self._job.rules.intent is Intent.HAND_OVER and not of_folder(item):
            self._book.progress.planned_objects += 1
            there = Verdict(Decision.CLEAR, Reason.PROVEN)
            done = item._replace(
                entry=carried.entry, far=carried.placed.entry, verdict=there, crc=carried.row.crc
            )
            spill_to(self._clears, done._replace(proof=carried.placed.proof))

    async def _keep_replaced(self, key: bytes, far: Entry) -> str:
        """Set a copy of what is about to be replaced aside; journalled before."""
        whole, take = self._job.target.prefix + key, self._keep
        aside = await take.aside_of(key, whole, far)
        assert aside is not None
        await self._ledger.before([aside], [])
        return await take.keep(whole, far, aside)
