"""Carries out a plan in the order that is safe: by this process, or in batches by helpers."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Iterator
from functools import partial
from typing import IO

from pinecart.core.batch import MOST_BYTES, Carried, Task
from pinecart.core.decide import Decision, Intent, Reason, Verdict
from pinecart.core.entries import Entry, is_of_parts
from pinecart.core.errors import Halting, StoreError
from pinecart.core.guards import HeldClass
from pinecart.core.lifecycle import Phase
from pinecart.core.places import dated_name
from pinecart.core.ports import HELD_BYTES, Folders
from pinecart.runner.batch_helper import GIVE_UP_AFTER, GIVEN_OUT, LOOK_S, Helper
from pinecart.runner.concurrency import ConcurrencyController
from pinecart.runner.decided_items import Item, class_of, is_large, of_folder, spill_to, spilled
from pinecart.runner.leg_context import Ledger, LegContext
from pinecart.runner.leg_tally import LegTally
from pinecart.runner.object_transfer import ObjectTransfer
from pinecart.runner.older_versions import OlderVersions
from pinecart.runner.plan import Plan
from pinecart.runner.pool import Pool
from pinecart.runner.removal import Removal

MOST_BLOCKED = 1000


class Executor:
    """For one plan. clearings: where a move writes down what may be cleared afterwards."""

    def __init__(
        self,
        leg: LegContext,
        ledger: Ledger,
        tally: LegTally,
        transfer: ObjectTransfer,
        pool: Pool,
        controller: ConcurrencyController,
        clearings: IO[str],
    ) -> None:
        self._leg = leg
        self._ledger = ledger
        self._tally = tally
        self._transfer = transfer
        self._pool = pool
        self._controller = controller
        self._clearings = clearings
        self._removal = Removal(leg, ledger, tally, transfer, pool)
        self._older_versions = OlderVersions(leg, ledger)
        self._blocked: list[Item] = []  # something lies in their way that is yet to be removed
        self._gathered: list[Item] = []  # for the next batch
        self._gathered_bytes = 0
        self._came_back: list[Item] = []  # from helpers, untried or without an answer

    # --- the order

    async def carry_out(self, plan: Plan, *, without: set[HeldClass]) -> bool:
        """Copies, replacements, removals, what those were in the way of, folders, clearings.

        False: the plan has grown too old to remove more by it.
        """
        await self._copy_again(plan, without)
        await self._replace(plan, without)
        if HeldClass.REMOVALS not in without and not await self._remove(plan):
            return False
        await self._carry_blocked()
        await self._set_folders(plan)
        return await self._clear(plan)

    async def _copy_again(self, plan: Plan, without: set[HeldClass]) -> None:
        """What is not new, but gone or changed there."""
        for item in _free(plan, Decision.COPY, HeldClass.MISSING, without):
            await self.hand_on(item)
        await self.all_done()

    async def _replace(self, plan: Plan, without: set[HeldClass]) -> None:
        for item in _free(plan, Decision.REPLACE, HeldClass.REPLACEMENTS, without):
            await self.hand_on(item)
        await self.all_done()

    async def _remove(self, plan: Plan) -> bool:
        return await self._removal.all_of(plan.decisions, Decision.REMOVE, plan.made_at)

    async def _carry_blocked(self) -> None:
        """Once what was to be removed is gone: carry what it was in the way of."""
        blocked = self._blocked
        self._blocked = []
        for item in blocked:
            await self._pool.add(partial(self._act, item, last=True))
        await self._pool.drain()

    async def _set_folders(self, plan: Plan) -> None:
        """Folders last, since their permissions may forbid to write into them."""
        for item in spilled(plan.decisions, Decision.COPY):
            if of_folder(item):
                await self._act(item)

    async def _clear(self, plan: Plan) -> bool:
        """A move's sources: those found proven by the plan, and those that were carried since."""
        for decisions in (plan.decisions, self._clearings):
            if not await self._removal.all_of(decisions, Decision.CLEAR, plan.made_at):
                return False
        return True

    # --- handing on

    async def hand_on(self, item: Item) -> None:
        """To be carried: by this process, or with others of its kind by a helper that has room."""
        if self._leg.crew is None or not self._can_be_given_out(item):
            work = partial(self._act, item)
            large = is_large(item)
            if not self._pool.took(work, large=large):
                await self._pool.add(work, large=large)
            return
        self._gathered.append(item)
        self._gathered_bytes += item.entry.size if item.entry else 0
        is_full = self._gathered_bytes > MOST_BYTES - HELD_BYTES
        if len(self._gathered) >= GIVEN_OUT or is_full:
            items = self._take_gathered()
            helper = self._leg.crew.free()
            if helper:
                await self._pool.add(partial(self._act_by, helper, items))
            else:
                await self._act_all(items)

    def _can_be_given_out(self, item: Item) -> bool:
        """A small file that is carried as it is.

        What is paced, has a ceiling, or is journalled before, stays with this process.
        """
        if self._tally.gave_up or self._leg.works_alone() or self._leg.versions > 1:
            return False
        replaces_kept = bool(self._leg.days) or item.verdict.reason is Reason.EXISTS
        kept = item.far is not None and replaces_kept
        made_of_parts = item.entry is not None and is_of_parts(item.entry)
        return not (kept or made_of_parts or is_large(item) or of_folder(item))

    def _take_gathered(self) -> list[Item]:
        items = self._gathered
        self._gathered = []
        self._gathered_bytes = 0
        return items

    async def all_done(self) -> None:
        """Wait until all that was handed on is carried, or recorded as a problem."""
        await self._act_all(self._take_gathered())
        await self._pool.drain()
        came_back = self._came_back
        self._came_back = []
        await self._act_all(came_back, again=True)
        await self._pool.drain()

    async def _act_all(self, items: list[Item], *, again: bool = False) -> None:
        for item in items:
            await self._pool.add(partial(self._act, item, again=again), large=is_large(item))

    # --- by a helper

    async def _act_by(self, helper: Helper, items: list[Item]) -> None:
        """One batch by another process; what it answers is written down here."""
        self._tally.phase(Phase.TRANSFERRING)
        tasks = [Task(i.key, i.entry, i.far) for i in items if i.entry]
        for item in items:
            self._intends(item)
        answers = asyncio.ensure_future(helper.carry(self._leg.number, tasks))
        try:
            while not (await asyncio.wait({answers}, timeout=LOOK_S))[0]:
                if self._leg.stopping() or self._leg.works_alone():
                    helper.recall()
            refused: Halting | None = None
            for item, result in zip(items, await answers, strict=True):
                if isinstance(result, Carried):
                    await self._record_carried(item, result, result.seconds)
                    if isinstance(self._leg.target.store, Folders):
                        self._leg.target.store.wrote(result.placed.entry)
                elif isinstance(result, Halting):
                    refused = result
                elif isinstance(result, StoreError):
                    await self._not_carried(item, result, result.facts["seconds"], last=False)
                else:
                    self._came_back.append(item)
            if refused:
                raise refused
        finally:
            answers.cancel()

    # --- by this process

    async def _act(self, item: Item, last: bool = False, again: bool = False) -> None:
        """last: nothing that lies in its way will go any more.

        again: a helper may have carried it.
        """
        if self._leg.stopping():
            return
        assert item.entry is not None
        if self._tally.gave_up:
            await self._not_tried(item)
            return
        self._tally.phase(Phase.TRANSFERRING)
        started = time.monotonic()
        self._tally.progress.start(item.key, item.entry.size)
        try:
            if item.far:
                kept = await self._keep_what_lies_there(item)
            else:
                kept = ""
            self._intends(item)
            far, older = await self._older_versions.carry(item)
            carried = await self._transfer.transfer(item.key, item.entry, far, again=again)
        except Halting:
            raise
        except StoreError as exc:
            await self._not_carried(item, exc, time.monotonic() - started, last=last)
        else:
            seconds = time.monotonic() - started
            await self._record_carried(item, carried, seconds, kept, older=older)

    async def _keep_what_lies_there(self, item: Item) -> str:
        """Under a second name, or set aside. Gives the fingerprint of what was set aside."""
        assert item.far is not None
        if item.verdict.reason is Reason.EXISTS:
            second_name = dated_name(item.key, self._leg.stamp)
            await self._transfer.keep_aside(item.key, item.far, second_name)
            return ""
        if self._leg.days:
            return await self._set_aside(item.key, item.far)
        return ""

    async def _set_aside(self, key: bytes, far: Entry) -> str:
        """A copy of what is about to be replaced; journalled before."""
        remover = self._removal.at_target
        whole = self._leg.target.prefix + key
        aside = await remover.aside_of(key, whole, far)
        assert aside is not None
        await self._ledger.before([aside], [])
        return await remover.keep(whole, far, aside)

    def _intends(self, item: Item) -> None:
        decision, reason, _ = item.verdict
        self._ledger.intends(self._leg.number, item.key, decision.value, reason.value)

    # --- writing down

    async def _not_tried(self, item: Item) -> None:
        message = f"Not tried, after {GIVE_UP_AFTER} failures in a row: {self._tally.gave_up}."
        record = self._tally.record(item, done=False, error="not-tried", message=message)
        await self._tally.add(record)

    async def _not_carried(
        self, item: Item, exc: StoreError, seconds: float, *, last: bool
    ) -> None:
        self._tally.progress.end(item.key, 0)
        in_the_way = exc.code in ("store.not-a-folder", "store.is-a-folder")
        may_go = in_the_way and not last and self._leg.rules.intent is Intent.MIRROR
        if may_go and len(self._blocked) < MOST_BLOCKED:
            self._blocked.append(item)
            return
        await self._tally.failed(item, exc, seconds)

    async def _record_carried(
        self, item: Item, carried: Carried, seconds: float, kept: str = "", *, older: int = 0
    ) -> None:
        """What was placed, with what isn't kept there and what was left. Where files are handed
        over, its source may go from now on.
        """
        placed = carried.placed
        self._tally.went_well()
        self._controller.did(carried.size)
        self._tally.progress.end(item.key, carried.size)
        words = [f"Not kept there: {placed.lost}."] if placed.lost else []
        words += [f"Left there: {placed.left}"] if placed.left else []
        words += [f"After {older} older versions of it."] if older else []
        message = {"message": " ".join(words)} if words else {}
        record = self._tally.record(
            item,
            **message,
            size=carried.size,
            seconds=seconds,
            crc=carried.row.crc,
            proof=placed.proof,
            guarded=placed.guarded,
            tries=carried.tries,
            row=carried.row,
            kept=kept,
        )
        await self._tally.add(record)
        if self._leg.rules.intent is Intent.HAND_OVER and not of_folder(item):
            self._may_clear(item, carried)

    def _may_clear(self, item: Item, carried: Carried) -> None:
        """Its source goes once this record is committed."""
        self._tally.progress.planned_objects += 1
        proven = Verdict(Decision.CLEAR, Reason.PROVEN)
        done = item._replace(
            entry=carried.entry,
            far=carried.placed.entry,
            verdict=proven,
            crc=carried.row.crc,
            proof=carried.placed.proof,
        )
        spill_to(self._clearings, done)


def _free(
    plan: Plan, decision: Decision, held: HeldClass, without: set[HeldClass]
) -> Iterator[Item]:
    """Files with this decision that no guard holds."""
    for item in spilled(plan.decisions, decision):
        is_held = held in without and class_of(item.verdict) is held
        if not is_held and not of_folder(item):
            yield item
