"""One leg of a run or a preview: merge, decide, look closer where asked, act in the safe order, and look once more."""

from __future__ import annotations

import asyncio
import contextlib
import itertools
import json
import tempfile
import time
from base64 import b64decode, b64encode
from collections import Counter
from collections.abc import AsyncIterator, Callable, Iterator
from functools import partial
from typing import IO, Any, NamedTuple, Protocol

from pinecart.core.batch import MOST_BYTES, Carried, Task, from_plain, plain
from pinecart.core.columns import Page, Rows
from pinecart.core.decide import Answer, Comparison, Decision, Intent, Look, Reason, Rules, Verdict, consider, left_out
from pinecart.core.entries import (
    SETTLE_S,
    Aside,
    Entry,
    Likeness,
    Row,
    fingerprint,
    likeness,
)
from pinecart.core.errors import Corrupt, Incomplete, Missing, SignInRefused, StoreError, Taken
from pinecart.core.folding import EXACT
from pinecart.core.guards import Counts, Held, Limits, holds, list_digest
from pinecart.core.keeping import Keep
from pinecart.core.lifecycle import Phase
from pinecart.core.listing import Together
from pinecart.core.places import dated_name, original_key, show
from pinecart.core.ports import HELD_BYTES, Uploads
from pinecart.core.renaming import Renaming
from pinecart.core.retry import Retry
from pinecart.core.selection import Selection
from pinecart.runner.carry import REPLACED, Carrier, decision_id
from pinecart.runner.feed import Pages, far_entries, leg_rows, nothing, source_entries
from pinecart.runner.folded import OneName, matched, one_name
from pinecart.runner.helping import GIVE_UP_AFTER, GIVEN_OUT, Crew, Helper
from pinecart.runner.look import Pair, compare_contents, content_crc, extra_of
from pinecart.runner.pacing import Pacer, Width
from pinecart.runner.pool import Pool
from pinecart.runner.progress import Progress
from pinecart.runner.records import Record, Recorder
from pinecart.runner.removing import Away, Remover
from pinecart.runner.side import Side

TAKEN_AT_ONCE = 200  # removals confirmed, journalled and carried out together
PLAN_GOOD_S = 600.0  # older than this, nothing more is removed by a plan
MOST_PLANS = 50
BLOCKED = 1000
LOOK_S = 0.25  # so often it is looked whether helpers shall stop
ACTS = (Decision.COPY, Decision.REPLACE, Decision.REMOVE, Decision.CLEAR)
PROOFS = ("server-verified", "read-back", "server-copy")
PROBLEM_WORDS = {
    Reason.CHANGED_THERE: "Somebody changed it there since it was placed. It was left untouched.",
    Reason.BOTH_CHANGED: "It changed at both sides. Neither was touched; decide which one to keep.",
    Reason.EXISTS: "Something else lies there under this name, and the job says not to replace it.",
    Reason.UNREADABLE: "The service's account may not read this folder. Grant it the right.",
    Reason.NOT_A_FILE: "It is a link or a special file, not a regular file. It was left out.",
    Reason.NAME_CLASH: "Two files would get this one name there, by a renaming or because upper and lower case are one there. None was touched: rename one, or change the rule.",
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
    proof: str = ""


class HeldList(NamedTuple):
    """A class of decisions that waits for a person, and the digest of its list."""

    leg: int
    what: str
    guard: str
    message: str
    objects: int
    bytes: int
    digest: str


class Job(NamedTuple):
    """What a leg needs to know. log: (action, message, fields). stopping: true once a stop was asked for.

    only_plan: a preview.   stamp: the run's date and time, for names that keep both.   days: what is removed or replaced is
    set aside for so long.   fresh: this leg never ran like this.   released: digests of lists that a person said yes to.
    settle_s: so long a file must be untouched before it is cleared from its source folder.   crew: other processes that help
    with small objects; None: there are none.
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
    days: int = 0
    limits: Limits = Limits()
    fresh: bool = False
    released: frozenset[str] = frozenset()
    settle_s: float = SETTLE_S
    keep: Keep = Keep()
    folders: str = "with-files"
    uploads: tuple[Uploads | None, Uploads | None] = (None, None)
    pacer: Pacer | None = None
    through_us: bool = False
    aside_in: bytes = b""
    crew: Crew | None = None

    def most_at_once(self) -> int:
        """As many as both stores bear, and this run may."""
        return min(self.concurrency, *(s.store.most_at_once or self.concurrency for s in (self.source, self.target)))


class Ledger(Protocol):
    def pages(self, leg: int) -> AsyncIterator[Rows]:
        """Rows in the order of their keys, some at a time."""
        ...

    async def cuts(self, leg: int) -> list[bytes]:
        """Every thousandth of the keys that it remembers, in order."""
        ...

    async def drop(self, leg: int, keys: list[bytes]) -> None: ...
    async def before(self, asides: list[Aside], rows: list[tuple[int, Row]]) -> None:
        """Commit what is about to be set aside, and what the ledger shall remember, before anything is destroyed."""
        ...

    async def lacking(self, leg: int, wanted: list[tuple[bytes, Entry]]) -> set[bytes]:
        """Of these source objects (whole keys) those that another job, which this one waits for, hasn't taken yet."""
        ...

    async def meant(self, leg: int) -> list[Aside]:
        """What this run journalled before, without a word since on whether it was done."""
        ...


class LegRun:
    """Carries out one leg. After `go`, `tally` holds what was only counted: (decision, reason) → objects, bytes."""

    def __init__(self, job: Job, ledger: Ledger, recorder: Recorder, progress: Progress) -> None:
        self._job, self._ledger, self._recorder, self._progress = job, ledger, recorder, progress
        self._carrier = Carrier(
            job.run,
            job.leg,
            job.source,
            job.target,
            job.retry,
            job.keep,
            job.uploads,
            job.pacer,
            through_us=job.through_us,
        )
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
        self._planned_at = 0.0
        self._unreadable = b""  # a folder of the source that can't be entered: what lies in it seems gone, and isn't
        self._names = OneName(EXACT, at_target=False, scratch=job.scratch)
        self._blocked: list[Item] = []  # copies in whose way something lies that is yet to be removed
        self._gathered: list[Item] = []  # for the next batch
        self._gathered_bytes = 0
        self._came_back: list[Item] = []  # from helpers, untried or without an answer
        self.counts = Counts(0, 0, 0)
        self.held: list[HeldList] = []
        self._meant: list[Aside] = []
        self._take = {
            side: Remover(job.run, job.leg, side, at, self._carrier, job.days, job.aside_in)
            for side, at in (("source", job.source), ("target", job.target))
        }

    async def go(self) -> None:
        """Raises StoreError or Incomplete when the leg as a whole can't be worked on."""
        job = self._job
        self._phase(Phase.CONNECTING)
        await job.source.store.check_place(job.source.prefix)
        await job.target.store.check_place(job.target.prefix)
        if not job.one:
            self._names = await one_name(job.source, job.target, job.scratch)
        if not job.only_plan:
            await self._settle_what_was_meant()
        for _ in range(MOST_PLANS):
            if await self._once():
                break
            job.log(
                "planned-anew", "The plan is over ten minutes old: both sides are listed again before more is removed."
            )
            self._start_over()
        else:
            message = f"Both sides were listed {MOST_PLANS} times, and each time the work before the removals took over ten minutes. Mend the problems listed, and start it again."
            raise Incomplete(message, code="plan.always-old")
        if self._dropped and not job.only_plan:
            await self._ledger.drop(job.leg, self._dropped)
        await self._recorder.flush()

    async def _once(self) -> bool:
        """Plan, and act in the safe order. False: the plan has grown too old to remove more by it."""
        job = self._job
        self._phase(Phase.LISTING)
        with (
            tempfile.TemporaryFile("w+", dir=job.scratch) as spill,
            tempfile.TemporaryFile("w+", dir=job.scratch) as self._clears,
        ):
            width = Width(job.most_at_once)
            self._width = width
            async with Pool(width) as pool:
                await self._plan(pool, spill)
                self._planned, self._planned_at = True, time.monotonic()
                self._tell_if_complete()
                await self._all_done(pool)
                job.log("planned", f"Listing complete: {self._progress.listed} names.", listed=self._progress.listed)
                held = set() if job.stopping() else await self._guard(spill)
                if job.only_plan:
                    return True
                for what, decision in ((Held.MISSING, Decision.COPY), (Held.REPLACEMENTS, Decision.REPLACE)):
                    for item in _spilled(spill, decision):
                        if (what not in held or _class_of(item.verdict) is not what) and not _of_folder(item):
                            await self._hand_on(item, pool)
                    await self._all_done(pool)
                if Held.REMOVALS not in held and not await self._take_all(pool, spill, Decision.REMOVE, self._remove):
                    return False
                blocked, self._blocked = self._blocked, []
                for item in blocked:
                    await pool.add(partial(self._act, item, last=True))
                await pool.drain()
                for item in _spilled(spill, Decision.COPY):  # last, since permissions may forbid to write into them
                    if _of_folder(item):
                        await self._act(item)
                for clears in (spill, self._clears):
                    if not await self._take_all(pool, clears, Decision.CLEAR, self._clear):
                        return False
        return True

    def _start_over(self) -> None:
        self.tally.clear()
        self.tally_bytes.clear()
        self.held, self._planned, self.counts = [], False, Counts(0, 0, 0)
        self._unlike, self._unreadable = 0, b""
        self._not_done.clear()
        self._progress.start_over()

    async def _guard(self, spill: IO[str]) -> set[Held]:
        """What is held now: its list goes into the records, for a person to see."""
        held: set[Held] = set()
        if self._unreadable and self.counts.removals:
            held.add(Held.REMOVALS)
            await self._leave_removals(spill)
        found = holds(self.counts._replace(fresh=self._job.fresh), self._job.limits)
        for hold in found:
            if hold.what in held:
                continue
            digest = list_digest(_line(i) for i in _spilled(spill, None) if _class_of(i.verdict) is hold.what)
            if digest in self._job.released:
                self._job.log("released", f"Released: {hold.message}", digest=digest)
                continue
            held.add(hold.what)
            objects = size = 0
            for item in _spilled(spill, None):
                if _class_of(item.verdict) is hold.what:
                    record = self._record(item, done=False)
                    objects, size = objects + 1, size + record.size
                    if not self._job.only_plan:
                        await self._recorder.add(record)
            self.held.append(HeldList(self._job.leg, hold.what.value, hold.guard, hold.message, objects, size, digest))
            self._job.log("held", hold.message, guard=hold.guard, digest=digest)
        return held

    async def _leave_removals(self, spill: IO[str]) -> None:
        """The source's listing has a hole: nothing may be removed by it, and each file says why."""
        message = f"Not removed: the folder {show(self._unreadable)} of the source can't be entered, so nobody knows what is gone. Grant the service's account the right."
        for item in _spilled(spill, Decision.REMOVE):
            self._progress.problems += 1
            await self._recorder.add(self._record(item, done=False, error="source-unreadable", message=message))

    async def _settle_what_was_meant(self) -> None:
        """After an interruption: what was journalled and has happened is recorded; the rest is planned again."""
        self._meant = await self._ledger.meant(self._job.leg)
        for aside in self._meant:
            side = self._job.source if aside.side == "source" else self._job.target
            whole = aside.at if aside.version else original_key(side.store.home(aside.at), aside.at)
            try:
                kept = (await side.store.stat(aside.at, aside.version)).entry
            except Missing:
                continue
            if await side.store.is_absent(whole):
                clear = aside.side == "source"
                decision, reason = (Decision.CLEAR, Reason.PROVEN) if clear else (Decision.REMOVE, Reason.GONE)
                record = Record(aside.leg, aside.key, decision.value, reason.value, aside.size, guarded=False)
                await self._recorder.add(record._replace(kept=fingerprint(kept)))
                self.acted += 1
        await self._recorder.flush()

    # --- planning ------------------------------------------------------------------------------------------------

    async def _plan(self, pool: Pool, spill: IO[str]) -> None:
        job, far_objects, far_bytes = self._job, 0, 0
        asked = job.rules.intent is Intent.REMOVE
        source = (
            nothing()
            if asked
            else source_entries(job.source, job.one, job.renaming, job.scratch, self._folders(), self._cuts)
        )
        far = far_entries(job.target, job.one, self._cuts)
        selection, everything, now_ns = job.selection, job.selection.is_everything, time.time_ns()
        rows = sources = 0
        plain, same_bytes, same = self._plain(), 0, 0
        async for some in matched(source, far, nothing() if asked else self._rows(), self._names):
            if plain and isinstance(some, Together) and (size := self._all_unchanged(some)) is not None:
                same, same_bytes = len(some.rows), size
                some = []
            for key, entry, there, row in some:
                if (
                    plain
                    and _unchanged(entry, there, row, job.run)
                    and (everything or selection.takes(entry.source_key))
                ):
                    same, same_bytes = same + 1, same_bytes + entry.size
                    continue
                if job.stopping():
                    return
                if there is not None:
                    if there.is_folder and entry is None and row is None and there.etag == "folder":
                        continue  # a folder that is there for its files
                    far_objects, far_bytes = far_objects + (not there.is_folder), far_bytes + there.size
                if entry is not None:
                    self._progress.listed += 1
                    sources += 1
                    if entry.fault and (entry.fault == "unreadable" or key.endswith(b"/")):
                        self._unreadable = key
                if row is not None:
                    rows += not row.cleared
                if not everything:
                    if entry is not None:
                        why_not = selection.why_not(entry.source_key, entry, now_ns)
                    elif asked:
                        why_not = selection.why_not(key, there, now_ns)
                    else:
                        why_not = selection.why_not_gone(key, row.source if row else "", now_ns)
                    if why_not is not None:
                        self._count(Item(key, entry, there, row, left_out(why_not)))
                        continue
                verdict = consider(entry, there, row, job.rules)
                if isinstance(verdict, Look):
                    self._looking += 1
                    await pool.add(partial(self._look_and_route, key, entry, there, row, pool, spill))
                else:
                    await self._route(Item(key, entry, there, row, verdict, row.crc if row else ""), pool, spill)
            if job.stopping():
                return
            self._all_same(same, same_bytes)
            rows, sources, far_objects, far_bytes = (
                rows + same,
                sources + same,
                far_objects + same,
                far_bytes + same_bytes,
            )
            same = same_bytes = 0
        self.far_seen = (far_objects, far_bytes)
        self._see(rows=rows, source=sources, far=far_objects, asked=asked)

    def _all_unchanged(self, some: Together) -> int | None:
        """Their bytes, if all of them are taken and as remembered at both sides, beyond doubt."""
        if not some.sources:
            return None
        sources, theres = Page.of(some.sources), Page.of(some.theres)
        if not (some.rows.all_settled(self._job.run) and sources.are_plain()):
            return None
        if not (sources.all_as(some.rows.columns.source) and theres.all_as(some.rows.columns.there)):
            return None
        return sum(sources.columns.size) if self._job.selection.takes_all(sources.source_keys()) else None

    def _plain(self) -> bool:
        """Whether what is as remembered at both sides is left, whatever else: then it needs no closer look."""
        rules, selection = self._job.rules, self._job.selection
        by_name = selection == Selection(selection.take, selection.leave_out)
        known = rules.compare is Comparison.SINCE_LAST_RUN and rules.intent not in (Intent.HAND_OVER, Intent.REMOVE)
        return by_name and known

    def _all_same(self, objects: int, size: int) -> None:
        if not objects:
            return
        kind = (Decision.LEAVE.value, Reason.SAME.value)
        self.tally[kind] += objects
        self.tally_bytes[kind] += size
        self._progress.same += objects
        self._progress.listed += objects

    def _folders(self) -> str:
        """Which folders of the source are taken as entries of their own."""
        if self._job.folders == "with-files" and (self._job.keep.permissions or self._job.keep.attributes):
            return "all"
        return {"with-files": "", "empty-too": "empty", "only": "only"}[self._job.folders]

    async def _cuts(self) -> list[bytes]:
        return await self._ledger.cuts(self._job.leg)

    def _see(self, **more: Any) -> None:
        self.counts = self.counts._replace(**more)

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
                same = now == row.crc and not (far and await self._other_besides(key, entry, far))
                answers["source_look"] = Answer.EQUAL if same else Answer.DIFFERS
            elif verdict is Look.FAR:
                assert far is not None
                answers["far_look"], crc = await self._compare_far(key, entry, far, row)
            else:
                return Item(key, entry, far, row, verdict, crc)

    async def _other_besides(self, key: bytes, entry: Entry, far: Entry) -> bool:
        """Whether permissions or attributes that the job keeps are others than the ones there."""
        source, target = self._job.source, self._job.target
        keep = Keep(self._job.keep.permissions, self._job.keep.attributes)
        if not any(keep) or entry.etag == "link":
            return False
        here = await extra_of(source.store, source.prefix + entry.source_key, entry, keep)
        there = await extra_of(target.store, target.prefix + key, far, keep)
        return (here.mode, here.attributes) != (there.mode, there.attributes)

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
        if decision is Decision.CLEAR and reason is Reason.RECOGNISED:
            await self._recognised(item)
        if decision in ACTS:
            self._progress.planned_objects += 1
            self._progress.planned_bytes += item.entry.size if item.entry and decision is not Decision.CLEAR else 0
            c = self.counts
            if decision is Decision.REMOVE and not (item.far and item.far.etag == "folder"):
                self._see(removals=c.removals + 1, foreign=c.foreign + (reason is Reason.FOREIGN))
            elif decision is Decision.REPLACE:
                self._see(replacements=c.replacements + 1)
            elif _class_of(item.verdict) is Held.MISSING:
                self._see(missing=c.missing + 1)
            if self._job.only_plan:
                await self._recorder.add(self._record(item, done=False))
                if decision is not Decision.COPY or reason is not Reason.NEW:
                    _spill(spill, item)  # so that a preview can say what would be held
            elif decision is Decision.COPY and reason is Reason.NEW and not _of_folder(item):
                await self._hand_on(item, pool)
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
        if row is None or row.run != self._job.run:
            self._progress.same += 1
            self._count(item)

    async def _recognised(self, item: Item) -> None:
        """Already there. If it is this run's own write, made before it was interrupted, it counts as the copy it was."""
        assert item.entry is not None and item.far is not None
        row = Row(item.key, fingerprint(item.entry), fingerprint(item.far), item.crc, run=self._job.run)
        own = await self._own_write(item)
        if own:
            kept = await self._kept_before(item.key)
            await self._recorder.add(self._record(own, row=row, proof="server-verified", crc=item.crc, kept=kept))
            self.acted += 1
        elif item.verdict.decision is Decision.LEAVE:
            await self._recorder.add(self._record(item, row=row, crc=item.crc))

    async def _kept_before(self, key: bytes) -> str:
        """The fingerprint of what was set aside of it before the interruption; empty: nothing was."""
        for aside in self._meant:
            if aside.key == key and aside.side == "target":
                with contextlib.suppress(Missing):
                    return fingerprint((await self._job.target.store.stat(aside.at, aside.version)).entry)
        return ""

    async def _own_write(self, item: Item) -> Item | None:
        """What lies there as the decision it came from, if this very run has put it there before it was interrupted."""
        assert item.entry is not None and item.far is not None
        if self._job.only_plan or item.far.inode:
            return None
        card = (await self._job.target.store.stat(self._job.target.prefix + item.key)).card
        if not card or card.decision_id.removesuffix(REPLACED) != decision_id(self._job.run, self._job.leg, item.entry):
            return None
        decision = Decision.REPLACE if card.decision_id.endswith(REPLACED) else Decision.COPY
        return item._replace(verdict=Verdict(decision, Reason.NEW if item.row is None else Reason.CHANGED))

    # --- acting --------------------------------------------------------------------------------------------------

    async def _hand_on(self, item: Item, pool: Pool) -> None:
        """To be carried: by this process, or with others of its kind by a helper, where one has room."""
        if self._job.crew is None or not self._can_be_given_out(item):
            await pool.add(partial(self._act, item), large=_is_large(item))
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
        """A small file that is carried as it is. What is paced, has a ceiling, or is journalled before, stays with this process."""
        stores = (self._job.source.store, self._job.target.store)
        if self._failing[1] >= GIVE_UP_AFTER or self._is_paced() or any(s.most_at_once for s in stores):
            return False
        kept = item.far is not None and (bool(self._job.days) or item.verdict.reason is Reason.EXISTS)
        made_of_parts = item.entry is not None and "-" in item.entry.etag
        return not (kept or made_of_parts or _is_large(item) or _of_folder(item))

    def _is_paced(self) -> bool:
        return self._job.pacer is not None and self._job.pacer.rate is not None

    async def _act_all(self, items: list[Item], pool: Pool, *, again: bool = False) -> None:
        for item in items:
            await pool.add(partial(self._act, item, again=again), large=_is_large(item))

    async def _all_done(self, pool: Pool) -> None:
        """Wait until all that was handed on is carried, or recorded as a problem."""
        gathered, self._gathered, self._gathered_bytes = self._gathered, [], 0
        await self._act_all(gathered, pool)
        await pool.drain()
        came_back, self._came_back = self._came_back, []
        await self._act_all(came_back, pool, again=True)
        await pool.drain()

    async def _act_by(self, helper: Helper, items: list[Item]) -> None:
        """One batch by another process; what it answers is written down here."""
        self._phase(Phase.TRANSFERRING)
        tasks = [Task(i.key, i.entry, i.far) for i in items if i.entry]
        asked = asyncio.ensure_future(helper.carry(self._job.leg, tasks))
        try:
            while not (await asyncio.wait({asked}, timeout=LOOK_S))[0]:
                if self._job.stopping() or self._is_paced():
                    helper.recall()
            refused: SignInRefused | None = None
            for item, result in zip(items, await asked, strict=True):
                if isinstance(result, Carried):
                    await self._record_carried(item, result, result.seconds)
                    self._job.target.store.wrote(result.placed.entry)
                elif isinstance(result, SignInRefused):
                    refused = result
                elif result is not None:
                    await self._not_carried(item, result, result.facts["seconds"], last=False)
                else:
                    self._came_back.append(item)
            if refused:
                raise refused
        finally:
            asked.cancel()

    async def _act(self, item: Item, last: bool = False, again: bool = False) -> None:
        """last: nothing that lies in its way will go any more.   again: a helper may have carried it."""
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
            replaces, kept = item.far, ""
            if item.verdict.reason is Reason.EXISTS and item.far is not None:
                await self._carrier.keep_aside(item.key, item.far, dated_name(item.key, self._job.stamp))
            elif item.far is not None and self._job.days:
                kept = await self._keep_replaced(item.key, item.far)
            carried = await self._carrier.carry(item.key, item.entry, replaces, again=again)
        except SignInRefused:
            raise
        except StoreError as exc:
            await self._not_carried(item, exc, time.monotonic() - started, last=last)
        else:
            await self._record_carried(item, carried, time.monotonic() - started, kept)

    async def _not_carried(self, item: Item, exc: StoreError, seconds: float, *, last: bool) -> None:
        self._progress.end(item.key, 0)
        in_the_way = exc.code in ("store.not-a-folder", "store.is-a-folder")
        if in_the_way and not last and self._job.rules.intent is Intent.MIRROR and len(self._blocked) < BLOCKED:
            self._blocked.append(item)
            return
        await self._record_failure(item, exc, seconds)

    async def _record_carried(self, item: Item, carried: Carried, seconds: float, kept: str = "") -> None:
        self._failing = ("", 0)
        self.acted += 1
        self._width.did(carried.size)
        self._progress.end(item.key, carried.size)
        await self._recorder.add(
            self._record(
                item, size=carried.size, seconds=seconds, crc=carried.row.crc, proof=carried.placed.proof,
                guarded=carried.placed.guarded, tries=carried.tries, row=carried.row, kept=kept,
            )
        )  # fmt: skip
        if self._job.rules.intent is Intent.HAND_OVER and not _of_folder(item):
            self._progress.planned_objects += 1
            there = Verdict(Decision.CLEAR, Reason.PROVEN)
            done = item._replace(entry=carried.entry, far=carried.placed.entry, verdict=there, crc=carried.row.crc)
            _spill(self._clears, done._replace(proof=carried.placed.proof))

    async def _keep_replaced(self, key: bytes, far: Entry) -> str:
        """Set a copy of what is about to be replaced aside; journalled before."""
        whole, take = self._job.target.prefix + key, self._take["target"]
        aside = await take.aside_of(key, whole, far)
        assert aside is not None
        await self._ledger.before([aside], [])
        return await take.keep(whole, far, aside)

    # --- taking away ---------------------------------------------------------------------------------------------

    async def _take_all(self, pool: Pool, spill: IO[str], wanted: Decision, take: Any) -> bool:
        """Remove or clear what was planned, a few hundred at a time. False: the plan is too old to go on by."""
        items = _spilled(spill, wanted)
        while batch := list(itertools.islice(items, TAKEN_AT_ONCE)):
            if self._job.stopping():
                return True
            if time.monotonic() - self._planned_at > PLAN_GOOD_S:
                return False
            self._phase(Phase.REMOVING)
            await self._recorder.flush()  # every copy that justifies a clearing is on record before it
            if wanted is Decision.CLEAR:
                batch = await self._without_awaited(batch)
            ready: list[tuple[Item, Aside | None, Row | None]] = []
            for item in batch:
                await pool.add(partial(self._confirm, item, ready))
            await pool.drain()
            asides, rows = [a for _, a, _ in ready if a], [(self._job.leg, r) for _, _, r in ready if r]
            await self._ledger.before(asides, rows)
            for item, aside, row in ready:
                await pool.add(partial(self._taken, take, item, aside, row))
            await pool.drain()
        return True

    async def _without_awaited(self, batch: list[Item]) -> list[Item]:
        """What another job has to take first stays at the source for now."""
        prefix = self._job.source.prefix
        whole = {prefix + i.entry.source_key: i for i in batch if i.entry}
        lacking = await self._ledger.lacking(self._job.leg, [(key, i.entry) for key, i in whole.items() if i.entry])
        for key in lacking:
            self._left(whole[key], Reason.AWAITED)
        return [i for key, i in whole.items() if key not in lacking]

    def _left(self, item: Item, reason: Reason) -> None:
        """It was to be cleared, and isn't yet."""
        self._progress.planned_objects -= 1
        self._count(item._replace(verdict=Verdict(Decision.LEAVE, reason)))

    async def _confirm(self, item: Item, ready: list[tuple[Item, Aside | None, Row | None]]) -> None:
        """Whether this one object may go now. What can't be confirmed stays, and is listed."""
        job, clear = self._job, item.verdict.decision is Decision.CLEAR
        try:
            if clear:
                row = await self._proven(item)
                assert item.entry is not None
                whole = job.source.prefix + item.entry.source_key
                if row is not None:
                    ready.append((item, await self._take["source"].aside_of(item.key, whole, item.entry), row))
                return
            assert item.far is not None
            if job.rules.intent is not Intent.REMOVE and not await job.source.store.is_absent(
                job.source.prefix + item.key
            ):
                raise Taken(f"{show(item.key)} is at the source again. It was not removed.", code="source-back")
            aside = await self._take["target"].aside_of(item.key, job.target.prefix + item.key, item.far)
            ready.append((item, aside, None))
        except SignInRefused:
            raise
        except StoreError as exc:
            await self._record_failure(item, exc, 0.0)

    async def _proven(self, item: Item) -> Row | None:
        """The ledger row of a copy whose source may be cleared. None: not yet. Raises StoreError where it isn't proven."""
        assert item.entry is not None and item.far is not None
        entry, store, whole = item.entry, self._job.target.store, self._job.target.prefix + item.key
        if entry.inode and time.time_ns() - max(entry.modified_ns or 0, entry.ctime_ns) < self._job.settle_s * 1e9:
            self._left(item, Reason.TOO_YOUNG)
            return None
        stat = await store.stat(whole)
        if likeness(stat.entry, fingerprint(item.far)) is not Likeness.SAME:
            raise Taken(f"{show(item.key)} is not as it was placed. Its source was not cleared.")
        crc, proof = item.crc, item.proof
        if not crc:
            crc = await content_crc(self._job.source.store, self._job.source.prefix + entry.source_key, entry)
        if proof not in PROOFS and stat.crc != crc and await content_crc(store, whole, stat.entry) != crc:
            raise Corrupt(f"{show(item.key)}: what lies there is not what was sent. Its source was not cleared.")
        return Row(item.key, fingerprint(entry), fingerprint(stat.entry), crc, cleared=True, run=self._job.run)

    async def _taken(self, take: Any, item: Item, aside: Aside | None, row: Row | None) -> None:
        started = time.monotonic()
        self._progress.start(item.key, 0)
        try:
            taken: Away = await take(item, aside)
        except SignInRefused:
            raise
        except StoreError as exc:
            self._progress.end(item.key, 0)
            await self._record_failure(item, exc, time.monotonic() - started)
            return
        self._failing = ("", 0)
        self.acted += 1
        self._progress.end(item.key, 0)
        record = self._record(
            item, seconds=time.monotonic() - started, guarded=taken.guarded, row=row, kept=taken.kept, tries=1
        )
        await self._recorder.add(record)
        if item.verdict.decision is Decision.REMOVE:
            self._dropped.append(item.key)

    async def _remove(self, item: Item, aside: Aside | None) -> Away:
        assert item.far is not None
        return await self._take["target"].take_away(self._job.target.prefix + item.key, item.far, aside)

    async def _clear(self, item: Item, aside: Aside | None) -> Away:
        assert item.entry is not None
        return await self._take["source"].take_away(self._job.source.prefix + item.entry.source_key, item.entry, aside)

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
        was = item.entry.was if item.entry else b""
        fields: dict[str, Any] = {
            "size": entry.size if entry else 0,
            "message": f"from {show(was)}" if was and was != item.key else "",
        } | rest
        return Record(self._job.leg, item.key, item.verdict.decision.value, item.verdict.reason.value, **fields)

    def _count(self, item: Item) -> None:
        if _of_folder(item):
            return
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
        far = far_entries(job.target, job.one, self._cuts)
        async for some in matched(nothing(), far, self._rows(), self._names):
            if (
                isinstance(some, Together)
                and (theres := Page.of(some.theres)).are_plain()
                and theres.all_as(some.rows.columns.there)
            ):
                objects, size = objects + len(theres), size + sum(theres.columns.size)
                some = []
            for _, _, there, row in some:
                if there is not None:
                    objects, size = objects + (not there.is_folder), size + there.size
                if row is not None and (there is None or likeness(there, row.there) is Likeness.DIFFERENT):
                    differences += 1
            await asyncio.sleep(0)
        return {"objects": objects, "bytes": size, "differences": differences + self._not_done[False]}


def _unchanged(entry: Entry | None, there: Entry | None, row: Row | None, run: int) -> bool:
    """As remembered at both sides, beyond doubt: most of what there is, so that it must cost little."""
    return (
        entry is not None
        and there is not None
        and row is not None
        and not (row.racy or row.cleared or entry.fault or row.run == run)
        and fingerprint(entry) == row.source
        and fingerprint(there) == row.there
        and (entry.size > 0 or not entry.key.endswith(b"/"))
    )


def _of_folder(item: Item) -> bool:
    entry = item.entry or item.far
    return entry is not None and entry.is_folder


def _is_large(item: Item) -> bool:
    return item.entry is not None and item.entry.size > HELD_BYTES


def _class_of(verdict: Verdict) -> Held | None:
    """The class of decisions that a guard may hold this one with."""
    if verdict.decision is Decision.REMOVE:
        return Held.REMOVALS
    if verdict.decision is Decision.REPLACE:
        return Held.REPLACEMENTS
    lost = verdict.decision is Decision.COPY and verdict.reason in (Reason.MISSING_THERE, Reason.CHANGED)
    return Held.MISSING if lost else None


def _line(item: Item) -> bytes:
    """One decision as it counts in the digest of a list."""
    sides = [fingerprint(e) if e else "" for e in (item.entry, item.far)]
    return json.dumps([b64encode(item.key).decode(), item.verdict.decision, item.verdict.reason, *sides]).encode()


def _spill(spill: IO[str], item: Item) -> None:
    told = [b64encode(item.key).decode(), plain(item.entry), plain(item.far), *item.verdict, item.crc, item.proof]
    spill.write(json.dumps(told) + "\n")


def _spilled(spill: IO[str], wanted: Decision | None) -> Iterator[Item]:
    """Read the spilled decisions of one kind (None: all) back. The file is read line by line, never whole."""
    spill.seek(0)
    for line in iter(spill.readline, ""):
        key_text, entry, far, decision, reason, problem, crc, proof = json.loads(line)
        if wanted is None or decision == wanted.value:
            key = b64decode(key_text)
            found = Verdict(Decision(decision), Reason(reason), problem)
            yield Item(key, from_plain(key, entry), from_plain(key, far), None, found, crc, proof)
