"""Small objects, and parts of large ones, carried by other processes beside a run's own, batch by
batch.

The run's process plans, gives out, holds guards and limits, and writes everything down; a helper
only carries, and answers.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from typing import Protocol

from pinecart.core.batch import Batch, BatchAnswer, Parts, Result, Task
from pinecart.core.definition import Definition
from pinecart.core.entries import Entry
from pinecart.core.errors import Halting, Incomplete, StoreError
from pinecart.core.ports import CountsRequests, Sender, Store
from pinecart.core.retry import Retry
from pinecart.runner.concurrency import ConcurrencyController
from pinecart.runner.object_transfer import ObjectTransfer, TransferOptions
from pinecart.runner.pool import Pool
from pinecart.runner.side import Side

GIVEN_OUT = 500  # decisions in one batch: few enough that the end of a run is shared as well
GIVE_UP_AFTER = 100
SHARED_STEP = 16 << 20  # bytes of a part that is given out, at most: a helper holds eight of them
LOOK_S = 0.25  # so often it is looked whether helpers shall stop


class Helper(Protocol):
    async def carry(self, leg: int, tasks: Sequence[Task]) -> Sequence[Result]:
        """One for each task. None: not tried, or nobody knows, since the helper has gone."""
        ...

    async def send(
        self, leg: int, key: bytes, entry: Entry, upload: str, step: int, numbers: Sequence[int]
    ) -> Mapping[int, tuple[str, str]]:
        """Parts of one object's upload: number → (ETag, CRC). What is missing was not sent, or
        nobody knows.
        """
        ...

    def recall(self) -> None:
        """What it hasn't begun yet comes back untried."""
        ...


class Crew(Protocol):
    def free(self) -> Helper | None:
        """One that has room for another batch, which is then its; None: carry it yourself."""
        ...

    def requests(self) -> Mapping[str, int]:
        """store → sent by all helpers so far."""
        ...


def requests_of(stores: Mapping[str, Store]) -> dict[str, int]:
    """store → requests sent, of those that are asked over a line."""
    return {n: s.requests_sent for n, s in stores.items() if isinstance(s, CountsRequests)}


class Sharing:
    """One large object, whose parts helpers send as well while nothing paces the run.

    core.ports.Shares.
    """

    def __init__(
        self, crew: Crew, leg: int, key: bytes, entry: Entry, alone: Callable[[], bool]
    ) -> None:
        self._crew = crew
        self._leg = leg
        self._key = key
        self._entry = entry
        self._alone = alone

    def free(self, step: int) -> Sender | None:
        """What sends a part by a helper process that is free; None: none is, or the run does it
        better alone.
        """
        helper = self._crew.free() if step <= SHARED_STEP and not self._alone() else None
        if helper:
            return partial(self._send, helper)
        return None

    async def _send(
        self, helper: Helper, upload: str, step: int, numbers: Sequence[int]
    ) -> Mapping[int, tuple[str, str]]:
        asked = asyncio.ensure_future(
            helper.send(self._leg, self._key, self._entry, upload, step, numbers)
        )
        try:
            while not (await asyncio.wait({asked}, timeout=LOOK_S))[0]:
                if self._alone():
                    helper.recall()
            return await asked
        finally:
            asked.cancel()


class BatchHelper:
    """Carries batches of one run for its process: the side of the helper.

    most_at_once: over all its batches.
    """

    def __init__(
        self,
        run: int,
        epoch: int,
        definition: Definition,
        stores: Mapping[str, Store],
        most_at_once: Callable[[], int],
        retry: Retry = Retry(),
    ) -> None:
        self._run = run
        self._epoch = epoch
        self._definition = definition
        self._stores = stores
        self._width = ConcurrencyController(most_at_once)
        self._retry = retry
        self.pool = Pool(self._width)
        self._transfers: dict[int, ObjectTransfer] = {}
        self._recalled = 0
        self._newest = 0  # numbers of batches
        self._failing: tuple[str, int] = ("", 0)

    async def take(self, batch: Batch) -> BatchAnswer:
        """Carries all of a batch and answers once, with a result for each. Raises Incomplete
        for a batch of another run, epoch or definition.
        """
        self._begin(batch)
        results: list[Result] = [None] * len(batch.tasks)
        left = len(batch.tasks)
        done = asyncio.Event()

        async def one(at: int, task: Task) -> None:
            nonlocal left
            try:
                results[at] = await self._carry(batch, task)
            finally:
                left -= 1
                if not left:
                    done.set()

        for at, task in enumerate(batch.tasks):
            await self.pool.add(partial(one, at, task))
        await done.wait()
        return self._answer(batch, results)

    async def send(self, parts: Parts) -> BatchAnswer:
        """Raises Incomplete for parts of another run, epoch or definition."""
        self._begin(parts)
        number = parts.number
        numbers = parts.numbers
        transfer = self._transfer(parts.leg)
        sent = await transfer.send_parts(parts, lambda: number > self._recalled)
        return self._answer(parts, list(map(sent.get, numbers)))

    def _answer(self, asked: Batch | Parts, results: Sequence[Result]) -> BatchAnswer:
        requests = requests_of(self._stores)
        heading = (asked.number, asked.run, asked.leg, asked.epoch)
        return BatchAnswer(*heading, tuple(results), requests)

    def _begin(self, batch: Batch | Parts) -> None:
        if (batch.run, batch.epoch, batch.definition) != (
            self._run,
            self._epoch,
            self._definition.digest,
        ):
            raise Incomplete(
                f"Batch {batch.number} is of another run, or of other rules.",
                code="batch.of-another-run",
            )
        self._newest = max(self._newest, batch.number)

    def recall(self) -> None:
        """What isn't begun yet goes back untried."""
        self._recalled = self._newest

    async def _carry(self, batch: Batch, task: Task) -> Result:
        if batch.number <= self._recalled or self._failing[1] >= GIVE_UP_AFTER:
            return None
        began = time.monotonic()
        try:
            carried = await self._transfer(batch.leg).transfer(
                task.key, task.entry, task.replaces, again=batch.again
            )
        except StoreError as exc:
            self._failing = (exc.code, self._failing[1] + 1 if exc.code == self._failing[0] else 1)
            if isinstance(exc, Halting):
                self.recall()
            exc.facts["seconds"] = time.monotonic() - began
            return exc
        self._failing = ("", 0)
        self._width.did(carried.size)
        return carried._replace(seconds=time.monotonic() - began)

    def _transfer(self, leg: int) -> ObjectTransfer:
        if leg not in self._transfers:
            told = self._definition.legs[leg]
            source, target = (
                Side(self._stores[p.store], p.path) for p in (told.source, told.target)
            )
            through_us = self._definition.goes_through_us
            options = TransferOptions(
                self._run,
                leg,
                source,
                target,
                self._retry,
                self._definition.keep,
                through_us=through_us,
            )
            self._transfers[leg] = ObjectTransfer(options)
        return self._transfers[leg]
