"""One leg of a run or a preview: merge, decide, look closer where asked, act in the safe order, and look once more."""

from __future__ import annotations

import asyncio
import json
import tempfile
import time
from base64 import b64decode, b64encode
from collections import Counter
from collections.abc import AsyncIterator, Callable, Iterator
from functools import partial
from typing import IO, Any, NamedTuple, Protocol

from pinecart.core.decide import Answer, Decision, Look, Reason, Rules, Verdict, consider, left_out
from pinecart.core.entries import Entry, Likeness, Row, fingerprint, likeness
from pinecart.core.errors import SignInRefused, StoreError
from pinecart.core.lifecycle import Phase
from pinecart.core.places import dated_name, show
from pinecart.core.renaming import Renaming
from pinecart.core.retry import Retry
from pinecart.core.selection import Selection
from pinecart.runner.carry import Carrier, decision_id
from pinecart.runner.feed import Pages, far_entries, leg_rows, merged, source_entries
from pinecart.runner.look import Pair, compare_contents, content_crc
from pinecart.runner.pool import Pool
from pinecart.runner.progress import Progress
from pinecart.runner.records import Record, Recorder
from pinecart.runner.side import Side

GIVE_UP_AFTER = 100
PROBLEM_WORDS = {
    Reason.CHANGED_THERE: "Somebody changed it there since it was placed. It was left untouched.",
    Reason.BOTH_CHANGED: "It changed at both sides. Neither was touched; decide which one to keep.",
    Reason.EXISTS: "Something else lies there under this name, and the job says not to replace it.",
    Reason.UNREADABLE: "The service's account may not read this folder. Grant it the right.",
    Reason.NOT_A_FILE: "It is a link or a special file, not a regular file. It was left out.",
    Reason.NAME_CLASH: "Two files would get this name. Neither was carried; change the renaming.",
    Reason.UNSAFE_NAME: "A name like this can't be carried safely.",
}


class Item(NamedTuple):
    """One key with what is known of it and what was decided."""

    key: bytes
    entry: Entry | None
    far: Entry | None
    row: Row | None
    verdict: Verdict
    crc: str = ""


class Job(NamedTuple):
    """What a leg needs to know. log: (action, message, fields). stopping: true once a stop was asked for.

    only_plan: a preview.   stamp: the run's date and time, for names that keep both.
    """

    run: int
    leg: int
    source: Side
    target: Side
    selection: Selection
    rules: Rules
    only_plan: bool
    concurrency: int
    retry: Retry
    stopping: Callable[[], bool]
    log: Callable[..., None]
    scratch: str
    stamp: str
    one: tuple[str, str] | None = None
    renaming: Renaming | None = None


class Ledger(Protocol):
    def pages(self, leg: int) -> AsyncIterator[list[Row]]: ...
    async def drop(self, leg: int, keys: list[bytes]) -> None: ...


class LegRun:
    """Carries out one leg. After `go`, `tally` holds what was only counted: (decision, reason) → objects, bytes."""

    def __init__(self, job: Job, ledger: Ledger, recorder: Recorder, progress: Progress) -> None:
        self._job, self._ledger, self._recorder, self._progress = job, ledger, recorder, progress
        self._carrier = Carrier(job.run, job.leg, job.source, job.target, job.retry)
        self.tally: Counter[tuple[str, str]] = Counter()
        self.tally_bytes: Counter[tuple[str, str]] = Counter()
        self.far_seen = (0, 0)
        self._unlike = 0  # far objects that are not as remembered, and were left so
        self._not_done: Counter[bool] = Counter()  # failures; True: nothing lies there, and the ledger says it should
        self.acted = 0
        self._failing: tuple[str, int] = ("", 0)
        self._dropped: list[bytes] = []
        self._looking = 0
        self._planned = False

    async def go(self) -> None:
        """Raises StoreError or Incomplete when the leg as a whole can't be worked on."""
        job = self._job
        self._phase(Phase.CONNECTING)
        await job.source.store.check_place(job.source.prefix)
        await job.target.store.check_place(job.target.prefix)
        self._phase(Phase.LISTING)
        with tempfile.TemporaryFile("w+", dir=job.scratch) as spill:
            async with Pool(job.concurrency) as pool:
                await self._plan(pool, spill)
                self._planned = True
                self._tell_if_complete()
                await pool.drain()
                job.log("planned", f"Listing complete: {self._progress.listed} names.", listed=self._progress.listed)
                if not job.only_plan:
                    for wanted in (Decision.COPY, Decision.REPLACE):
                        for item in _spilled(spill, wanted):
                            await pool.add(partial(self._act, item))
                        await pool.drain()
        if self._dropped and not job.only_plan:
            await self._ledger.drop(job.leg, self._dropped)
        await self._recorder.flush()

    # --- planning ------------------------------------------------------------------------------------------------

    async def _plan(self, pool: Pool, spill: IO[str]) -> None:
        job, far_objects, far_bytes = self._job, 0, 0
        source = source_entries(job.source, job.one, job.renaming, job.scratch)
        far = far_entries(job.target, job.one)
        selection, everything, now_ns = job.selection, job.selection.is_everything, time.time_ns()
        async for key, entry, there, row in merged(source, far, self._rows()):
            if job.stopping():
                return
            if there is not None:
                far_objects, far_bytes = far_objects + 1, far_bytes + there.size
            if entry is not None:
                self._progress.listed += 1
            if not everything:
                why_not = selection.why_not(entry.source_key if entry else key, entry, now_ns)
                if why_not is not None:
                    self._count(Item(key, entry, there, row, left_out(why_not)))
                    continue
            verdict = consider(entry, there, row, job.rules)
            if isinstance(verdict, Look):
                self._looking += 1
                await pool.add(partial(self._look_and_route, key, entry, there, row, pool, spill))
            else:
                await self._route(Item(key, entry, there, row, verdict), pool, spill)
        self.far_seen = (far_objects, far_bytes)

    def _rows(self) -> Pages:
        return leg_rows(self._ledger.pages(self._job.leg), self._job.one)

    async def _look_and_route(
        self, key: bytes, entry: Entry | None, far: Entry | None, row: Row | None, pool: Pool, spill: IO[str]
    ) -> None:
        try:
            item = await self._looked(key, entry, far, row)
        except SignInRefused:
            raise
        except StoreError as exc:
            refused = Verdict(Decision.REFUSE, Reason.UNPROVEN, problem=True)
            await self._record_failure(Item(key, entry, far, row, refused), exc, 0.0)
        else:
            await self._route(item, pool, spill)
        finally:
            self._looking -= 1
            self._tell_if_complete()

    def _tell_if_complete(self) -> None:
        self._progress.listing_complete = self._planned and self._looking == 0

    async def _looked(self, key: bytes, entry: Entry | None, far: Entry | None, row: Row | None) -> Item:
        """Answer core's questions until it gives its verdict."""
        job = self._job
        answers: dict[str, Answer] = {}
        crc = row.crc if row else ""
        while True:
            verdict = consider(entry, far, row, job.rules, **answers)
            if verdict is Look.SOURCE:
                assert entry is not None and row is not None
                now = await content_crc(job.source.store, job.source.prefix + entry.source_key, entry)
                answers["source_look"] = Answer.EQUAL if now == row.crc else Answer.DIFFERS
            elif verdict is Look.FAR:
                assert far is not None
                answers["far_look"], crc = await self._compare_far(key, entry, far, row)
            else:
                return Item(key, entry, far, row, verdict, crc)

    async def _compare_far(self, key: bytes, entry: Entry | None, far: Entry, row: Row | None) -> tuple[Answer, str]:
        job = self._job
        far_key = job.target.prefix + key
        if entry is None:
            assert row is not None
            now = await content_crc(job.target.store, far_key, far)
            return (Answer.EQUAL if now == row.crc else Answer.DIFFERS), now
        pair = Pair(job.source.store, job.source.prefix + entry.source_key, entry, job.target.store, far_key, far)
        return await compare_contents(pair, job.rules.compare)

    async def _route(self, item: Item, pool: Pool, spill: IO[str]) -> None:
        """Send one decision where it belongs: counted, recorded, acted on at once, or spilled until the plan is complete."""
        decision, reason, problem = item.verdict
        if decision is Decision.COPY or decision is Decision.REPLACE:
            assert item.entry is not None
            self._progress.planned_objects += 1
            self._progress.planned_bytes += item.entry.size
            if self._job.only_plan:
                await self._recorder.add(self._record(item, done=False))
            elif reason is Reason.NEW:
                await pool.add(partial(self._act, item))
            else:
                _spill(spill, item)
        elif problem:
            self._progress.problems += 1
            self._unlike += reason in (Reason.CHANGED_THERE, Reason.BOTH_CHANGED)
            await self._recorder.add(self._record(item, error=reason.value, message=PROBLEM_WORDS[reason]))
        elif reason is Reason.RECOGNISED:
            await self._recognised(item)
        elif reason is Reason.SAME:
            await self._same(item)
        elif reason is Reason.ROW_DROPPED:
            self._dropped.append(item.key)
        else:
            self._count(item)

    async def _same(self, item: Item) -> None:
        """Unchanged: only counted; and not even that if this very run placed it before it was interrupted."""
        entry, far, row = item.entry, item.far, item.row
        if entry is not None and row is not None and (row.racy or likeness(entry, row.source) is Likeness.TOUCHED):
            assert far is not None
            self._job.log("looked", f"{show(item.key)}: same content as remembered.", key=show(item.key))
            row = row._replace(source=fingerprint(entry), racy=False)
            await self._recorder.add(self._record(item, row=row))
            return
        if row is None or row.run != self._job.run:
            self._progress.same += 1
            self._count(item)

    async def _recognised(self, item: Item) -> None:
        """Already there. If it is this run's own write, made before it was interrupted, it counts as the copy it was."""
        assert item.entry is not None and item.far is not None
        row = Row(item.key, fingerprint(item.entry), fingerprint(item.far), item.crc, run=self._job.run)
        if not self._job.only_plan and not item.far.inode:
            card = (await self._job.target.store.stat(self._job.target.prefix + item.key)).card
            if card and card.decision_id == decision_id(self._job.run, self._job.leg, item.entry):
                own = item._replace(verdict=Verdict(Decision.COPY, Reason.NEW if item.row is None else Reason.CHANGED))
                await self._recorder.add(self._record(own, row=row, proof="server-verified", crc=item.crc))
                self.acted += 1
                return
        await self._recorder.add(self._record(item, row=row, crc=item.crc))

    # --- acting --------------------------------------------------------------------------------------------------

    async def _act(self, item: Item) -> None:
        if self._job.stopping():
            return
        assert item.entry is not None
        if self._failing[1] >= GIVE_UP_AFTER:
            await self._recorder.add(
                self._record(
                    item,
                    done=False,
                    error="not-tried",
                    message=f"Not tried, after {GIVE_UP_AFTER} failures in a row: {self._failing[0]}.",
                )
            )
            return
        self._phase(Phase.TRANSFERRING)
        started = time.monotonic()
        self._progress.start(item.key, item.entry.size)
        try:
            replaces = item.far
            if item.verdict.reason is Reason.EXISTS and item.far is not None:
                await self._carrier.keep_aside(item.key, item.far, dated_name(item.key, self._job.stamp))
            carried = await self._carrier.carry(item.key, item.entry, replaces)
        except SignInRefused:
            raise
        except StoreError as exc:
            self._progress.end(item.key, 0)
            await self._record_failure(item, exc, time.monotonic() - started)
            return
        self._failing = ("", 0)
        self.acted += 1
        self._progress.end(item.key, carried.size)
        await self._recorder.add(
            self._record(
                item, size=carried.size, seconds=time.monotonic() - started, crc=carried.row.crc, proof=carried.placed.proof,
                guarded=carried.placed.guarded, tries=carried.tries, row=carried.row,
            )
        )  # fmt: skip

    async def _record_failure(self, item: Item, exc: StoreError, seconds: float) -> None:
        code, times = self._failing
        self._failing = (exc.code, times + 1 if exc.code == code else 1)
        self._progress.problems += 1
        self._not_done[item.far is None and item.verdict.reason in (Reason.MISSING_THERE, Reason.CHANGED)] += 1
        self._job.log("problem", exc.message, key=show(item.key), code=exc.code)
        await self._recorder.add(
            self._record(
                item, done=False, seconds=seconds, tries=exc.facts.get("tries", 1), error=exc.code, message=exc.message
            )
        )

    def _record(self, item: Item, **rest: Any) -> Record:
        entry = item.entry or item.far
        fields = {"size": entry.size if entry else 0} | rest
        return Record(self._job.leg, item.key, item.verdict.decision.value, item.verdict.reason.value, **fields)

    def _count(self, item: Item) -> None:
        size = item.entry.size if item.entry else item.far.size if item.far else 0
        kind = (item.verdict.decision.value, item.verdict.reason.value)
        self.tally[kind] += 1
        self.tally_bytes[kind] += size

    def _phase(self, phase: Phase) -> None:
        if phase.value not in self._progress.phases:
            self._progress.phases.append(phase.value)
            self._job.log("phase", f"{phase.value}.", phase=phase.value)

    # --- looking once more ---------------------------------------------------------------------------------------

    async def far_side(self) -> dict[str, int]:
        """What the destination holds, listed once more against the ledger, and how much of it is not as intended.

        Where nothing was done, the plan's own listing has just said it.
        """
        if not self.acted:
            objects, size = self.far_seen
            return {"objects": objects, "bytes": size, "differences": self._unlike + self._not_done.total()}
        job, objects, size, differences = self._job, 0, 0, 0
        self._phase(Phase.CHECKING)
        far = far_entries(job.target, job.one)
        async for _, _, there, row in merged(_nothing(), far, self._rows()):
            if there is not None:
                objects, size = objects + 1, size + there.size
            if row is not None and (there is None or likeness(there, row.there) is Likeness.DIFFERENT):
                differences += 1
            await asyncio.sleep(0) if objects % 10_000 == 0 else None
        return {"objects": objects, "bytes": size, "differences": differences + self._not_done[False]}


async def _nothing() -> AsyncIterator[list[Any]]:
    return
    yield []


def _plain(entry: Entry | None) -> list[Any] | None:
    return [*entry[1:-1], b64encode(entry.was).decode()] if entry else None


def _entry(key: bytes, plain: list[Any] | None) -> Entry | None:
    return Entry._make([key, *plain[:-1], b64decode(plain[-1])]) if plain else None


def _spill(spill: IO[str], item: Item) -> None:
    spill.write(json.dumps([b64encode(item.key).decode(), _plain(item.entry), _plain(item.far), *item.verdict]) + "\n")


def _spilled(spill: IO[str], wanted: Decision) -> Iterator[Item]:
    """Read the spilled decisions of one kind back. The file is read line by line, never whole."""
    spill.seek(0)
    for line in iter(spill.readline, ""):
        key_text, entry, far, decision, reason, problem = json.loads(line)
        if decision == wanted.value:
            key = b64decode(key_text)
            found = Verdict(wanted, Reason(reason), problem)
            yield Item(key, _entry(key, entry), _entry(key, far), None, found)
