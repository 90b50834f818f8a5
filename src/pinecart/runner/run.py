"""A whole run, preview or audit: its legs one after another, its outcome, its far side, told through `Tell`."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator, Callable
from typing import Any, NamedTuple, Protocol

from pinecart.core.audit import compare
from pinecart.core.definition import Definition
from pinecart.core.entries import Row
from pinecart.core.errors import PinecartError
from pinecart.core.ports import Store
from pinecart.core.retry import Retry
from pinecart.runner.feed import far_entries, leg_rows, merged, source_entries
from pinecart.runner.leg import Job, LegRun
from pinecart.runner.progress import Progress
from pinecart.runner.records import BatchRules, Record, Recorder
from pinecart.runner.side import Side

TELL_S = 0.25  # at most four progress events a second


class Records(Protocol):
    """What the service gives a run to read and write. Every write carries the run's epoch."""

    def pages(self, leg: int) -> AsyncIterator[list[Row]]: ...
    async def drop(self, leg: int, keys: list[bytes]) -> None: ...
    async def save(self, batch: list[Record]) -> None: ...
    async def tell(self, progress: dict[str, Any]) -> None: ...
    def stopping(self) -> bool: ...
    def log(self, action: str, message: str, **fields: Any) -> None: ...


class Order(NamedTuple):
    """What to carry out. kind: "transfer", "preview" or "audit". stores: name → an opened store."""

    run: int
    kind: str
    definition: Definition
    stores: dict[str, Store]
    scratch: str
    concurrency: int = 16
    retry: Retry = Retry()
    batches: BatchRules = BatchRules()
    stamp: str = ""


class Ending(NamedTuple):
    """How it went. counted: (decision, reason, objects, bytes) of what has no record. error: why it failed as a whole."""

    counted: list[tuple[str, str, int, int]]
    far_side: dict[str, int] | None
    acted: int
    stopped: bool
    error: PinecartError | None = None


async def carry_out(order: Order, records: Records) -> Ending:
    """Work through all legs. Errors that end the whole are in the answer; a lost epoch is raised."""
    progress, recorder = Progress(), Recorder(records.save, order.batches)
    telling = asyncio.create_task(_keep_telling(progress, recorder, records))
    counted: list[tuple[str, str, int, int]] = []
    far_side: dict[str, int] | None = None
    acted = 0
    error: PinecartError | None = None
    try:
        for number in range(len(order.definition.legs)):
            if order.kind == "audit":
                await _audit(order, number, records, recorder, progress)
                continue
            leg = LegRun(_job(order, number, records), records, recorder, progress)
            try:
                await leg.go()
            finally:
                counted += [(d, r, n, leg.tally_bytes[d, r]) for (d, r), n in leg.tally.items()]
                acted += leg.acted
            if order.kind == "transfer" and not records.stopping():
                far_side = _sum(far_side, await leg.far_side())
    except PinecartError as exc:
        error = exc
        records.log("failed", exc.message, code=exc.code)
    finally:
        telling.cancel()
        await asyncio.gather(telling, return_exceptions=True)
        for store in order.stores.values():
            await store.close()
    await recorder.flush()
    await records.tell(progress.snapshot())
    return Ending(counted, far_side, acted, records.stopping(), error)


def _sum(a: dict[str, int] | None, b: dict[str, int]) -> dict[str, int]:
    return {k: b[k] + (a or {}).get(k, 0) for k in b}


def _sides(order: Order, number: int) -> tuple[Side, Side]:
    leg = order.definition.legs[number]
    return Side(order.stores[leg.source.store], leg.source.path), Side(order.stores[leg.target.store], leg.target.path)


def _job(order: Order, number: int, records: Records) -> Job:
    source, target = _sides(order, number)
    leg = order.definition.legs[number]
    return Job(
        order.run, number, source, target, leg.selection, order.definition.rules, order.kind == "preview",
        order.concurrency, order.retry, records.stopping, records.log, order.scratch, order.stamp,
        leg.one, leg.renaming,
    )  # fmt: skip


async def _keep_telling(progress: Progress, recorder: Recorder, records: Records) -> None:
    told: Callable[[], Any] = progress.snapshot
    while True:
        await records.tell(told())
        await recorder.flush_if_due()
        await asyncio.sleep(TELL_S)


async def _audit(order: Order, number: int, records: Records, recorder: Recorder, progress: Progress) -> None:
    """Compare both sides and the ledger by name, size and memory. Nothing is transferred."""
    source, target = _sides(order, number)
    leg = order.definition.legs[number]
    progress.phases = ["connecting", "listing"]
    await source.store.check_place(source.prefix)
    await target.store.check_place(target.prefix)
    here = source_entries(source, leg.one, leg.renaming, order.scratch)
    there, rows = far_entries(target, leg.one), leg_rows(records.pages(number), leg.one)
    selection, now_ns = leg.selection, time.time_ns()
    async for key, entry, far, row in merged(here, there, rows):
        if records.stopping():
            return
        if selection.why_not(entry.source_key if entry else key, entry, now_ns):
            continue
        progress.listed += 1
        found = compare(entry, far, row)
        if found:
            size = (entry or far).size if entry or far else 0
            await recorder.add(Record(number, key, "finding", found.finding.value, size, message=found.detail))
    progress.listing_complete = True
