"""A whole run, preview or audit: its legs one after another, its outcome, its far side, told
through `Tell`.
"""

from __future__ import annotations

import asyncio
import contextlib
import itertools
import time
from collections import Counter
from collections.abc import AsyncIterator, Coroutine, Mapping
from types import MappingProxyType
from typing import Any, NamedTuple, Protocol, TypeVar

from pinecart.core.audit import AuditRules
from pinecart.core.columns import Rows
from pinecart.core.decide import Decision, Reason
from pinecart.core.definition import Definition
from pinecart.core.entries import SETTLE_S, Aside, Entry, Row
from pinecart.core.errors import PinecartError, StoreError
from pinecart.core.options import KEPT_DAYS
from pinecart.core.part import ALL, Part
from pinecart.core.places import Location, aside_folder
from pinecart.core.ports import ClearsUploads, Store, Uploads
from pinecart.core.retry import Retry
from pinecart.json_object import JsonObject
from pinecart.runner.batch_helper import Crew, requests_of
from pinecart.runner.concurrency import Pacer
from pinecart.runner.decided_items import HeldList
from pinecart.runner.leg import run_leg
from pinecart.runner.leg_audit import Checkpoint, LegAudit
from pinecart.runner.leg_context import LegContext, RemovalPace
from pinecart.runner.leg_inventory import inventory_of
from pinecart.runner.leg_tally import LegTally
from pinecart.runner.progress import Point, Progress
from pinecart.runner.promise import Promise
from pinecart.runner.read_once import ReadOnce
from pinecart.runner.records import BatchRules, Record, Recorder, RecordsLost
from pinecart.runner.scratch import Scratch
from pinecart.runner.side import Side
from pinecart.runner.undo import AsideExpiry, Done, Undo

T = TypeVar("T")

MOST_AT_ONCE = 64
STOP_WITHIN_S = 3.0  # a stop waits so long for what is in flight, if that gets no further
LOOK_S = 0.25  # so often what stands beside a run looks
LISTEN_S = 0.5
YOUNG = 40  # looks: so long its progress is told at each one
LATER = 4  # and then at each fourth


class Records(Protocol):
    """What the service gives a run to read and write. Every write carries the run's epoch."""

    def pages(self, leg: int) -> AsyncIterator[Rows]: ...
    async def cuts(self, leg: int) -> list[bytes]: ...
    async def drop(self, leg: int, keys: list[bytes]) -> None: ...
    async def before(self, asides: list[Aside], rows: list[tuple[int, Row]]) -> None: ...
    async def lacking(self, leg: int, wanted: list[tuple[bytes, Entry]]) -> set[bytes]: ...
    def intends(self, leg: int, key: bytes, decision: str, reason: str) -> None: ...
    async def intended(self, leg: int) -> dict[bytes, tuple[str, str]]: ...
    async def meant(self, leg: int) -> list[Aside]: ...
    def fresh(self, leg: int) -> bool: ...
    async def settled(self, leg: int) -> None: ...
    def overtaken(self, leg: int) -> AsyncIterator[list[tuple[bytes, int]]]: ...
    def done_by(self, leg: int) -> AsyncIterator[list[Done]]: ...
    def kept_by(self, leg: int) -> AsyncIterator[list[Aside]]: ...
    async def no_longer_aside(self, asides: list[Aside], *, back: bool) -> None: ...
    async def save(self, batch: list[Record]) -> None: ...
    async def tell(self, progress: JsonObject) -> None: ...
    async def listen(self) -> None:
        """Hear what people want of this run by now: stop, pause, rate, how many at once."""
        ...

    def stopping(self) -> bool: ...
    def stops_at_once(self) -> bool:
        """Whether what is in flight isn't to be finished either."""
        ...

    def pausing(self) -> bool: ...
    def uploads(self, leg: int, side: str) -> Uploads | None: ...
    async def uploads_left(self) -> list[tuple[str, bytes, str]]:
        """(store, whole key, server's date) of uploads that this run began and nobody ended."""
        ...

    async def upload_cleared(self, store: str, key: bytes) -> None:
        """`store` was cleared of it."""
        ...

    def reached(self, leg: int, at: Checkpoint) -> None: ...
    def reached_before(self, leg: int) -> Checkpoint | None: ...
    def log(self, action: str, message: str, **fields: Any) -> None: ...


class Order(NamedTuple):
    """What to carry out. kind: "transfer", "preview", "audit", "inventory", "undo" or "expiry".
    stores: name → an opened store.

    undo: a preview of undoing.   released: digests of lists that a person said yes to.   ours:
    (store, prefix) of what runs of ours set aside or left, and so is no file of theirs.   rebound:
    (message, digest) of each store that was bound to another place since this job last ran; nothing
    is done before a person said yes.   promise: what a preview would do, and nothing else is done.
    audit: how closely an audit looks.
    """

    run: int
    kind: str
    definition: Definition
    stores: dict[str, Store]
    scratch: Scratch
    concurrency: int = MOST_AT_ONCE
    retry: Retry = Retry()
    batches: BatchRules = BatchRules()
    stamp: str = ""
    undo: bool = False
    released: frozenset[str] = frozenset()
    ours: tuple[tuple[str, bytes], ...] = ()
    settle_s: float = SETTLE_S
    pacer: Pacer = Pacer()
    rebound: tuple[tuple[str, str], ...] = ()
    crew: Crew | None = None
    pace: RemovalPace = RemovalPace()
    part: Part = ALL
    promise: Promise | None = None
    audit: AuditRules = AuditRules()


class Effort(NamedTuple):
    """What a run took. phases: phase → seconds.   requests: store → sent, those tried again too."""

    phases: Mapping[str, float] = MappingProxyType({})
    requests: Mapping[str, int] = MappingProxyType({})


class Ending(NamedTuple):
    """How it went. counted: (decision, reason, objects, bytes) of what has no record. error: why it
    failed as a whole.

    held: what waits for a person.   course: how it went along.
    """

    counted: list[tuple[str, str, int, int]]
    far_side: dict[str, int] | None
    acted: int
    stopped: bool
    error: PinecartError | None = None
    held: tuple[HeldList, ...] = ()
    course: tuple[Point, ...] = ()
    effort: Effort = Effort()
    inventory: JsonObject | None = None


async def carry_out(order: Order, records: Records) -> Ending:
    """Work through all legs.

    Errors that end the whole are in the answer; a lost epoch is raised.
    """
    if order.kind in ("transfer", "undo") and order.rebound:
        waits = tuple(
            HeldList(0, "places", "rebound", message, 0, 0, digest)
            for message, digest in order.rebound
        )
        return Ending([], None, 0, False, held=waits)
    progress = Progress()
    recorder = Recorder(records.save, order.batches)
    work = _Work(order, records, recorder, progress)
    try:
        with contextlib.suppress(
            _NothingMoves
        ):  # a stop was asked for, and what is in flight doesn't end
            await beside(
                work.go(),
                work.keep_telling(),
                _keep_listening(records),
                _watch_for_a_stop(progress, records),
            )
        await recorder.flush()
        await records.tell(progress.snapshot())
        return work.ending()
    except RecordsLost:
        raise
    except Exception:
        await recorder.flush()  # whatever ended it: what was done is written down
        raise
    finally:
        for store in order.stores.values():
            await store.close()


async def beside(work: Coroutine[Any, Any, T], *others: Coroutine[Any, Any, None]) -> T:
    """What `work` gives, with `others` going on beside it until then.

    If one of those fails all end, and its error is raised.
    """
    main = asyncio.ensure_future(work)
    rest = [asyncio.ensure_future(other) for other in others]
    try:
        await asyncio.wait([main, *rest], return_when=asyncio.FIRST_COMPLETED)
        for task in rest:
            if task.done():
                task.result()
        return await main
    finally:
        for each in (main, *rest):
            each.cancel()
        await asyncio.gather(main, *rest, return_exceptions=True)


class _NothingMoves(Exception):
    """A stop was asked for, and nothing that is in flight gets any further."""


class _Work:
    """The legs of one run, one after another, and what came of them so far."""

    def __init__(
        self, order: Order, records: Records, recorder: Recorder, progress: Progress
    ) -> None:
        """What comes of all legs is summed up here, whatever kind of run it is, so that its ending
        can be told also where it failed.
        """
        self._order = order
        self._records = records
        self._recorder = recorder
        self._progress = progress
        self._counted: list[tuple[str, str, int, int]] = []
        self._far_side: dict[str, int] | None = None
        self._acted = 0
        self._held: list[HeldList] = []
        self._read_once = _shared_sources(order)
        self._error: PinecartError | None = None
        self._inventory: JsonObject | None = None

    def ending(self) -> Ending:
        stopped = self._records.stopping()
        return Ending(
            self._counted,
            self._far_side,
            self._acted,
            stopped,
            self._error,
            tuple(self._held),
            self._progress.course(),
            self._effort(),
            self._inventory,
        )

    def _effort(self) -> Effort:
        """Requests by store, those of helper processes with them, and seconds by phase."""
        order = self._order
        sent = Counter(requests_of(order.stores))
        if order.crew is not None:
            sent.update(order.crew.requests())
        by_phase = self._progress.seconds_by_phase()
        return Effort(by_phase, dict(sent))

    async def go(self) -> None:
        try:
            for number, leg in enumerate(self._order.definition.legs):
                if leg.is_on and self._order.part.has_leg(number):
                    await self._leg(number)
        except PinecartError as exc:
            self._error = exc
            self._records.log("failed", exc.message, code=exc.code)
        cleared = await _clear_uploads(self._order, self._records, self._recorder)
        self._acted += cleared if self._order.kind == "expiry" else 0

    async def _leg(self, number: int) -> None:
        """Of the kind that the run is. What was done before a failure counts."""
        order = self._order
        beside_it = (self._records, self._recorder, self._progress)
        if order.kind == "audit":
            await self._audited(number)
        elif order.kind == "inventory":
            await self._taken_inventory(number)
        elif order.undo or order.kind in ("undo", "expiry"):
            context = leg_context(order, number, self._records)
            kind = AsideExpiry if order.kind == "expiry" else Undo
            again = kind(context, *beside_it)
            try:
                await again.go()
            finally:
                self._acted += again.acted
        else:
            await self._transferred(number)

    async def _audited(self, number: int) -> None:
        """What the ledger remembers of the leg is held against both sides; what was counted
        before a failure counts.
        """
        leg = leg_context(self._order, number, self._records)
        audit = LegAudit(leg, self._order.audit, self._recorder, self._progress, self._records)
        try:
            await audit.go(self._records.pages(number))
        finally:
            self._counted += audit.counted()

    async def _taken_inventory(self, number: int) -> None:
        """What was counted is the run's result, and nothing is changed. None: it was stopped, and
        half a count is none.
        """
        leg = leg_context(self._order, number, self._records)
        found = await inventory_of(leg, self._progress)
        self._inventory = found
        if found is not None:
            whole = found["folders"][0]
            objects = whole["objects"]
            size = whole["bytes"]
            counted = (Decision.LEAVE.value, Reason.SAME.value, objects, size)
            self._counted.append(counted)

    async def _transferred(self, number: int) -> None:
        leg = leg_context(self._order, number, self._records)
        place = self._order.definition.legs[number].read_place
        leg = leg._replace(read_once=self._read_once.get(place))
        tally = LegTally(leg, self._recorder, self._progress)
        try:
            far_side = await run_leg(leg, self._records, tally)
        finally:
            self._counted += tally.sums()
            self._acted += tally.acted
            self._held += tally.held
        if far_side is not None:
            self._far_side = _sum(self._far_side, far_side._asdict())

    async def keep_telling(self) -> None:
        """Often at first, since people watch what they have just started; later less, and records
        are written in time either way.
        """
        for look in itertools.count():
            if look < YOUNG or look % LATER == 0:
                await self._tell()
            await self._recorder.flush_if_due()
            await asyncio.sleep(LOOK_S)

    async def _tell(self) -> None:
        """A snapshot with what the run waits for just now, if a store keeps it waiting."""
        stores = self._order.stores.values()
        words = (store.waits_for() for store in stores)
        self._progress.waits_for = next(filter(None, words), "")
        snapshot = self._progress.snapshot()
        await self._records.tell(snapshot)


async def _watch_for_a_stop(progress: Progress, records: Records) -> None:
    """What is in flight is finished when a stop is asked for, as long as it gets any further.

    Raises _NothingMoves.
    """
    seen = progress.signs_of_life()
    since = time.monotonic()
    while True:
        await asyncio.sleep(LOOK_S)
        if records.stops_at_once():
            records.log("given-up", "It was stopped at once: what was in flight was given up.")
            raise _NothingMoves
        if not records.stopping() or progress.signs_of_life() != seen:
            seen = progress.signs_of_life()
            since = time.monotonic()
        elif time.monotonic() - since > STOP_WITHIN_S:
            records.log(
                "given-up",
                "A stop was asked for, and nothing in flight got any further: it was given up.",
            )
            raise _NothingMoves


async def _clear_uploads(order: Order, records: Records, recorder: Recorder) -> int:
    """What this run began to upload and did not finish is taken away; how many. A pause leaves it,
    to go on with.

    What the store does not say to be gone stays journalled: a run of the clock's tries it again,
    and lists it.
    """
    cleared = 0
    if records.pausing():
        return cleared
    for name, key, since in await records.uploads_left():
        told = Record(0, key, Decision.REMOVE.value, Reason.EXPIRED.value, guarded=False)
        try:
            store = order.stores.get(name)
            if isinstance(store, ClearsUploads):
                await store.clear_uploads(key, since)
        except StoreError as exc:
            message = f"Unfinished parts may be left, and be paid for: {exc.message}"
            records.log("uploads-left", message, code=exc.code)
            told = told._replace(done=False, error="uploads-left", message=message)
        else:
            await records.upload_cleared(name, key)
            cleared += 1
        if order.kind == "expiry":
            await recorder.add(told)
    return cleared


def _shared_sources(order: Order) -> dict[Location, ReadOnce]:
    """The places that more than one of its legs reads."""
    times: Counter[Location] = Counter()
    for number, leg in enumerate(order.definition.legs):
        if leg.is_on and order.part.has_leg(number):
            times[leg.read_place] += 1
    return {place: ReadOnce() for place, n in times.items() if n > 1}


def _sum(a: dict[str, int] | None, b: dict[str, int]) -> dict[str, int]:
    return {k: b[k] + (a or {}).get(k, 0) for k in b}


def _sides(order: Order, number: int) -> tuple[Side, Side]:
    leg = order.definition.legs[number]
    return _side(order, leg.read_place), _side(order, leg.target)


def _side(order: Order, place: Location) -> Side:
    path = place.path
    store = order.stores[place.store]
    home = store.home(path)
    own = aside_folder(home, order.run, order.definition.aside_prefix)
    known = {own}
    for name, folder in order.ours:
        if name == place.store:
            known.add(folder)
    start = len(path)
    below = [folder for folder in known if folder.startswith(path) and folder != path]
    ours = [folder[start:] for folder in below]
    return Side(store, path, tuple(ours))


def leg_context(order: Order, number: int, records: Records) -> LegContext:
    """All that one leg of this order needs to know."""
    source, target = _sides(order, number)
    definition = order.definition
    leg = order.definition.legs[number]
    undone_days = KEPT_DAYS if order.kind == "undo" else 0
    return LegContext(
        run=order.run,
        number=number,
        source=source,
        target=target,
        selection=leg.selection,
        rules=definition.rules,
        only_plan=order.kind == "preview",
        concurrency=order.concurrency,
        retry=order.retry,
        stopping=records.stopping,
        log=records.log,
        scratch=order.scratch,
        stamp=order.stamp,
        one=leg.one,
        renaming=leg.renaming,
        days=definition.set_aside or undone_days,
        limits=definition.limits,
        fresh=records.fresh(number),
        released=order.released,
        settle_s=order.settle_s,
        keep=definition.keep,
        folders=leg.folders,
        uploads=(records.uploads(number, "source"), records.uploads(number, "target")),
        pacer=order.pacer,
        through_us=definition.goes_through_us,
        aside_in=definition.aside_prefix,
        crew=order.crew if order.kind == "transfer" else None,
        pace=order.pace,
        part=order.part,
        promise=order.promise,
        younger_than=leg.younger_than,
        changing_tries=leg.changing_tries,
        versions=int(definition.options.get("versions", 1)),
    )


async def _keep_listening(records: Records) -> None:
    while True:
        await records.listen()
        await asyncio.sleep(LISTEN_S)
