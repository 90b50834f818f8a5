"""One leg of a run or a preview:

merge, decide, look closer where asked, act in the safe order, and look once more.
"""

from __future__ import annotations

import asyncio
import contextlib
import tempfile
import time
from dataclasses import dataclass
from functools import partial
from typing import IO, Any

from pinecart.core.columns import Page
from pinecart.core.decide import (
    Answer,
    Comparison,
    Decision,
    Intent,
    Look,
    Reason,
    Verdict,
    consider,
    left_out,
)
from pinecart.core.entries import Aside, Entry, Likeness, Row, fingerprint, likeness
from pinecart.core.errors import Halting, Incomplete, Missing, StoreError
from pinecart.core.folding import EXACT
from pinecart.core.guards import Counts, Held, holds, list_digest
from pinecart.core.keeping import Keep
from pinecart.core.lifecycle import Phase
from pinecart.core.listing import Found, Together
from pinecart.core.places import original_key, show
from pinecart.core.ports import Shares
from pinecart.core.selection import Selection
from pinecart.runner.acting import Acting
from pinecart.runner.book import Book
from pinecart.runner.carry import REPLACED, Carrier, decision_id
from pinecart.runner.feed import Pages, far_entries, leg_rows, nothing, source_entries
from pinecart.runner.folded import OneName, matched, one_name
from pinecart.runner.helping import Sharing
from pinecart.runner.items import HeldList, Item, class_of, line_of, of_folder, spill_to, spilled
from pinecart.runner.leg_job import Job, Ledger
from pinecart.runner.look import Pair, compare_contents, content_crc, extra_of
from pinecart.runner.pacing import Width
from pinecart.runner.pool import Pool
from pinecart.runner.progress import Progress
from pinecart.runner.records import Record, Recorder
from pinecart.runner.taking import Taking

MOST_PLANS = 50
ACTS = (Decision.COPY, Decision.REPLACE, Decision.REMOVE, Decision.CLEAR)
PROBLEM_WORDS = {
    Reason.CHANGED_THERE: "Somebody changed it there since it was placed. It was left untouched.",
    Reason.BOTH_CHANGED: "It changed at both sides. Neither was touched; decide which one to keep.",
    Reason.EXISTS: "Something else lies there under this name, and the job says not to replace it.",
    Reason.UNREADABLE: "The service's account may not read this folder. Grant it the right.",
    Reason.NOT_A_FILE: "It is a link or a special file, not a regular file. It was left out.",
    Reason.NAME_CLASH: (
        "Two files would get this one name there, by a renaming or because upper and lower case "
        "are one there. None was touched: rename one, or change the rule."
    ),
    Reason.BELOW_A_FILE: (
        "A file of the source has the name of the folder that this one lies in, and a folder "
        "there can't hold both. The file is carried; rename one of them."
    ),
    Reason.UNSAFE_NAME: "A name like this can't be carried safely.",
}


@dataclass
class _Seen:
    """What a plan has come across:

    sources, ledger rows (cleared ones aside), and what the far side holds.
    """

    sources: int = 0
    rows: int = 0
    far: int = 0
    far_bytes: int = 0

    def all_three(self, objects: int, size: int) -> None:
        self.sources, self.rows = self.sources + objects, self.rows + objects
        self.far, self.far_bytes = self.far + objects, self.far_bytes + size


class LegRun:
    """Carries out one leg, and writes down in `book` what became of it.

    held: what waits for a person.
    """

    def __init__(self, job: Job, ledger: Ledger, recorder: Recorder, progress: Progress) -> None:
        self._job, self._ledger = job, ledger
        self.book = Book(job, recorder, progress)
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
            shares=self._shares if job.crew else None,
            progress=progress,
        )
        self._taking = Taking(job, ledger, self.book, self._carrier)
        self.far_seen = (0, 0)
        self._unlike = 0  # far objects that are not as remembered, and were left so
        self._looking = 0
        self._planned = False
        # a folder of the source that can't be entered: what lies in it seems gone, and isn't
        self._unreadable = b""
        self._names = OneName(EXACT, at_target=False, scratch=job.scratch)
        self.counts = Counts(0, 0, 0)
        self.held: list[HeldList] = []
        self._intended: dict[bytes, tuple[str, str]] = {}
        self._kept: dict[
            bytes, Aside
        ] = {}  # meant to be set aside at the target before an interruption
        self._above: list[bytes] = []  # files of the source below whose names the next ones may lie
        self._has_folders = False

    def _shares(self, key: bytes, entry: Entry) -> Shares:
        assert self._job.crew
        return Sharing(self._job.crew, self._job.leg, key, entry, self._job.works_alone)

    async def go(self) -> None:
        """Raises StoreError or Incomplete when the leg as a whole can't be worked on."""
        job = self._job
        self.book.phase(Phase.CONNECTING)
        await job.source.store.check_place(job.source.prefix)
        await job.target.store.check_place(job.target.prefix)
        self._has_folders = (await job.target.store.abilities(job.target.prefix)).has_folders
        if not job.one:
            self._names = await one_name(job.source, job.target, job.scratch)
        if not job.only_plan:
            await self._settle_what_was_meant()
        for _ in range(MOST_PLANS):
            if await self._once():
                break
            job.log(
                "planned-anew",
                (
                    "The plan is over ten minutes old: both sides are listed again before more "
                    "is removed."
                ),
            )
            self._start_over()
        else:
            message = (
                f"Both sides were listed {MOST_PLANS} times, and each time the work before the "
                "removals took over ten minutes. Mend the problems listed, and start it again."
            )
            raise Incomplete(message, code="plan.always-old")
        if self.book.dropped and not job.only_plan:
            await self._ledger.drop(job.leg, self.book.dropped)
        await self.book.flush()

    async def _once(self) -> bool:
        """Plan, and act in the safe order.

        False: the plan has grown too old to remove more by it.
        """
        job, width = self._job, Width(self._job.most_at_once)
        self.book.phase(Phase.LISTING)
        with (
            tempfile.TemporaryFile("w+", dir=job.scratch) as spill,
            tempfile.TemporaryFile("w+", dir=job.scratch) as clears,
        ):
            async with Pool(width) as pool:
                acting = Acting(
                    job,
                    self._ledger,
                    self.book,
                    self._carrier,
                    self._taking.at_target,
                    width=width,
                    clears=clears,
                )
                await self._plan(acting, pool, spill)
                self._planned, planned_at = True, time.monotonic()
                self._tell_if_complete()
                await acting.all_done(pool)
                listed = self.book.progress.listed
                job.log("planned", f"Listing complete: {listed} names.", listed=listed)
                held = set() if job.stopping() else await self._guard(spill)
                if job.only_plan:
                    return True
                for what, decision in (
                    (Held.MISSING, Decision.COPY),
                    (Held.REPLACEMENTS, Decision.REPLACE),
                ):
                    for item in spilled(spill, decision):
                        if (
                            what not in held or class_of(item.verdict) is not what
                        ) and not of_folder(item):
                            await acting.hand_on(item, pool)
                    await acting.all_done(pool)
                if Held.REMOVALS not in held and not await self._taking.all_of(
                    pool, spill, Decision.REMOVE, planned_at
                ):
                    return False
                await acting.unblock(pool)
                for item in spilled(
                    spill, Decision.COPY
                ):  # last, since permissions may forbid to write into them
                    if of_folder(item):
                        await acting.act(item)
                for found in (spill, clears):
                    if not await self._taking.all_of(pool, found, Decision.CLEAR, planned_at):
                        return False
        return True

    def _start_over(self) -> None:
        self.book.start_over()
        self.held, self._planned, self.counts = [], False, Counts(0, 0, 0)
        self._unlike, self._unreadable, self._above = 0, b"", []

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
            digest = list_digest(
                line_of(i) for i in spilled(spill, None) if class_of(i.verdict) is hold.what
            )
            if digest in self._job.released:
                self._job.log("released", f"Released: {hold.message}", digest=digest)
                continue
            held.add(hold.what)
            objects = size = 0
            for item in spilled(spill, None):
                if class_of(item.verdict) is hold.what:
                    record = self.book.record(item, done=False)
                    objects, size = objects + 1, size + record.size
                    if not self._job.only_plan:
                        await self.book.add(record)
            self.held.append(
                HeldList(
                    self._job.leg, hold.what.value, hold.guard, hold.message, objects, size, digest
                )
            )
            self._job.log("held", hold.message, guard=hold.guard, digest=digest)
        return held

    async def _leave_removals(self, spill: IO[str]) -> None:
        """The source's listing has a hole: nothing may be removed by it, and each file says why."""
        message = (
            f"Not removed: the folder {show(self._unreadable)} of the source can't be entered, "
            "so nobody knows what is gone. Grant the service's account the right."
        )
        for item in spilled(spill, Decision.REMOVE):
            self.book.progress.problems += 1
            await self.book.add(
                self.book.record(item, done=False, error="source-unreadable", message=message)
            )

    async def _settle_what_was_meant(self) -> None:
        """After an interruption:

        what was journalled and has happened is recorded; the rest is planned again.
        """
        meant = await self._ledger.meant(self._job.leg)
        self._kept = {aside.key: aside for aside in meant if aside.side == "target"}
        self._intended = await self._ledger.intended(self._job.leg)
        await self._sweep(meant)
        for aside in meant:
            side = self._job.source if aside.side == "source" else self._job.target
            whole = aside.at if aside.version else original_key(side.store.home(aside.at), aside.at)
            try:
                kept = (await side.store.stat(aside.at, aside.version)).entry
            except Missing:
                continue
            if await side.store.is_absent(whole):
                clear = aside.side == "source"
                decision, reason = (
                    (Decision.CLEAR, Reason.PROVEN) if clear else (Decision.REMOVE, Reason.GONE)
                )
                record = Record(
                    aside.leg, aside.key, decision.value, reason.value, aside.size, guarded=False
                )
                await self.book.add(record._replace(kept=fingerprint(kept)))
                self.book.acted += 1
        await self.book.flush()

    async def _sweep(self, meant: list[Aside]) -> None:
        """What was half written when the process before died:

        where objects go to, and where they are set aside.
        """
        job = self._job
        keys = {"target": [job.target.prefix + key for key in self._intended], "source": []}
        for aside in meant:
            keys[aside.side].append(aside.at)
        for side, at in (("source", job.source), ("target", job.target)):
            if folders := {key.rpartition(b"/")[0] for key in keys[side]}:
                await at.store.sweep(folders)

    # --- planning

    async def _plan(self, acting: Acting, pool: Pool, spill: IO[str]) -> None:
        job, seen, now_ns = self._job, _Seen(), time.time_ns()
        asked, plain = job.rules.intent is Intent.REMOVE, self._plain()
        source = (
            nothing()
            if asked
            else source_entries(
                job.source, job.one, job.renaming, job.scratch, self._folders(), self._cuts
            )
        )
        far = far_entries(job.target, job.one, self._cuts)
        async for some in matched(source, far, nothing() if asked else self._rows(), self._names):
            same, same_bytes = 0, 0
            if (
                plain
                and isinstance(some, Together)
                and (size := self._all_unchanged(some)) is not None
            ):
                same, same_bytes = len(some.rows), size
                some = []
            for found in some:
                if plain and (size := self._unchanged(found)) is not None:
                    same, same_bytes = same + 1, same_bytes + size
                    continue
                if job.stopping():
                    return
                if (why_not := self._see(found, seen, now_ns)) is not None:
                    self.book.count(Item(*found, left_out(why_not)))
                elif not _is_no_object(found):
                    await self._decide(found, acting, pool, spill)
            if job.stopping():
                return
            self.book.all_same(same, same_bytes)
            seen.all_three(same, same_bytes)
        self.far_seen = (seen.far, seen.far_bytes)
        self._note(rows=seen.rows, source=seen.sources, far=seen.far, asked=asked)

    def _see(self, found: Found, seen: _Seen, now_ns: int) -> Reason | None:
        """Count what is there, and ask the selection: the rule that leaves it out, or None."""
        key, entry, there, row = found
        if _is_no_object(found):
            return None
        if there is not None:
            seen.far, seen.far_bytes = seen.far + (not there.is_folder), seen.far_bytes + there.size
        if entry is not None:
            self.book.progress.listed += 1
            seen.sources += 1
            if entry.fault and (entry.fault == "unreadable" or key.endswith(b"/")):
                self._unreadable = key
        if row is not None:
            seen.rows += not row.cleared
        selection = self._job.selection
        if selection.is_everything:
            return None
        if entry is not None:
            return selection.why_not(entry.source_key, entry, now_ns)
        if self._job.rules.intent is Intent.REMOVE:
            return selection.why_not(key, there, now_ns)
        return selection.why_not_gone(key, row.source if row else "", now_ns)

    async def _decide(self, found: Found, acting: Acting, pool: Pool, spill: IO[str]) -> None:
        key, entry, there, row = found
        if (
            entry is not None
            and self._has_folders
            and not entry.fault
            and self._is_below_a_file(entry)
        ):
            found = (key, entry := entry._replace(fault="below-a-file"), there, row)
        if self._was_sent_already(found):
            await self._same(Item(key, entry, there, row, Verdict(Decision.LEAVE, Reason.SAME)))
            return
        verdict = consider(entry, there, row, self._job.rules)
        if isinstance(verdict, Look):
            self._looking += 1
            await pool.add(partial(self._look_and_route, found, acting, pool, spill))
        else:
            await self._route(
                Item(key, entry, there, row, verdict, row.crc if row else ""), acting, pool, spill
            )

    def _is_below_a_file(self, entry: Entry) -> bool:
        """Whether a file is taken too whose name is a folder's on the way to this one.

        Asked in the order of keys.
        """
        key, above = entry.key, self._above
        while above and not key.startswith(above[-1]):
            above.pop()
        below = any(key[len(file) : len(file) + 1] == b"/" for file in above)
        if not (below or entry.is_folder):
            above.append(key)
        return below

    def _was_sent_already(self, found: Found) -> bool:
        """By this very run, before it was held or interrupted:

        it is not sent again, where the job sends all in every run.
        """
        _, entry, there, row = found
        if (
            self._job.rules.compare is not Comparison.ALWAYS
            or entry is None
            or there is None
            or row is None
        ):
            return False
        as_it_was = fingerprint(entry) == row.source and fingerprint(there) == row.there
        return row.run == self._job.run and not row.cleared and as_it_was

    def _unchanged(self, found: Found) -> int | None:
        """Its bytes, if it is taken and as remembered at both sides, beyond doubt:

        most of what there is, so that it must cost little.
        """
        _, entry, there, row = found
        if entry is None or there is None or row is None:
            return None
        settled = not (row.racy or row.cleared or entry.fault or row.run == self._job.run)
        if (
            not (settled and fingerprint(entry) == row.source and fingerprint(there) == row.there)
            or entry.is_folder
        ):
            return None
        size: int = entry.size
        return size if self._job.selection.takes(entry.source_key) else None

    def _all_unchanged(self, some: Together) -> int | None:
        """Their bytes, if all of them are taken and as remembered at both sides, beyond doubt."""
        if not some.sources:
            return None
        sources, theres = Page.of(some.sources), Page.of(some.theres)
        if not (some.rows.all_settled(self._job.run) and sources.are_plain()):
            return None
        if not (
            sources.all_as(some.rows.columns.source) and theres.all_as(some.rows.columns.there)
        ):
            return None
        return (
            sum(sources.columns.size)
            if self._job.selection.takes_all(sources.source_keys())
            else None
        )

    def _plain(self) -> bool:
        """Whether what is as remembered at both sides is left, whatever else:

        then it needs no closer look.
        """
        rules, selection = self._job.rules, self._job.selection
        by_name = selection == Selection(selection.take, selection.leave_out)
        known = rules.compare is Comparison.SINCE_LAST_RUN and rules.intent not in (
            Intent.HAND_OVER,
            Intent.REMOVE,
        )
        return by_name and known

    def _folders(self) -> str:
        """Which folders of the source are taken as entries of their own."""
        if self._job.folders == "with-files" and (
            self._job.keep.permissions or self._job.keep.attributes
        ):
            return "all"
        return {"with-files": "", "empty-too": "empty", "only": "only"}[self._job.folders]

    async def _cuts(self) -> list[bytes]:
        return await self._ledger.cuts(self._job.leg)

    def _note(self, **more: Any) -> None:
        self.counts = self.counts._replace(**more)

    def _rows(self) -> Pages:
        return leg_rows(self._ledger.pages(self._job.leg), self._job.one)

    async def _look_and_route(
        self, found: Found, acting: Acting, pool: Pool, spill: IO[str]
    ) -> None:
        try:
            item = await self._looked(*found)
        except Halting:
            raise
        except StoreError as exc:
            refused = Verdict(Decision.REFUSE, Reason.UNPROVEN, problem=True)
            await self.book.failed(Item(*found, refused), exc, 0.0)
        else:
            await self._route(item, acting, pool, spill)
        finally:
            self._looking -= 1
            self._tell_if_complete()

    def _tell_if_complete(self) -> None:
        self.book.progress.listing_complete = self._planned and self._looking == 0

    async def _looked(
        self, key: bytes, entry: Entry | None, far: Entry | None, row: Row | None
    ) -> Item:
        """Answer core's questions until it gives its verdict."""
        job = self._job
        answers: dict[str, Answer] = {}
        crc = row.crc if row else ""
        while True:
            verdict = consider(entry, far, row, job.rules, **answers)
            if verdict is Look.SOURCE:
                assert entry is not None and row is not None
                now = await content_crc(
                    job.source.store, job.source.prefix + entry.source_key, entry
                )
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
        if not any(keep) or entry.is_link:
            return False
        here = await extra_of(source.store, source.prefix + entry.source_key, entry, keep)
        there = await extra_of(target.store, target.prefix + key, far, keep)
        return (here.mode, here.attributes) != (there.mode, there.attributes)

    async def _compare_far(
        self, key: bytes, entry: Entry | None, far: Entry, row: Row | None
    ) -> tuple[Answer, str]:
        job = self._job
        far_key = job.target.prefix + key
        if entry is None:
            assert row is not None
            now = await content_crc(job.target.store, far_key, far)
            return (Answer.EQUAL if now == row.crc else Answer.DIFFERS), now
        pair = Pair(
            job.source.store,
            job.source.prefix + entry.source_key,
            entry,
            job.target.store,
            far_key,
            far,
        )
        return await compare_contents(pair, job.rules.compare)

    async def _route(self, item: Item, acting: Acting, pool: Pool, spill: IO[str]) -> None:
        """Send one decision where it belongs:

        counted, recorded, acted on at once, or spilled until the plan is complete.
        """
        decision, reason, problem = item.verdict
        if decision in (Decision.COPY, Decision.REPLACE) and (why := self._unfit(item.key)):
            self.book.progress.problems += 1
            refused = item._replace(
                verdict=Verdict(Decision.REFUSE, Reason.UNSAFE_NAME, problem=True)
            )
            await self.book.add(self.book.record(refused, error="unsafe-name", message=why))
            return
        if decision is Decision.CLEAR and reason is Reason.RECOGNISED:
            await self._recognised(item)
        if decision in ACTS:
            self.book.progress.planned_objects += 1
            self.book.progress.planned_bytes += (
                item.entry.size if item.entry and decision is not Decision.CLEAR else 0
            )
            c = self.counts
            if decision is Decision.REMOVE and not (item.far and item.far.is_place):
                self._note(removals=c.removals + 1, foreign=c.foreign + (reason is Reason.FOREIGN))
            elif class_of(item.verdict) is Held.REPLACEMENTS:
                self._note(replacements=c.replacements + 1)
            elif class_of(item.verdict) is Held.MISSING:
                self._note(missing=c.missing + 1)
            if self._job.only_plan:
                await self.book.add(self.book.record(item, done=False))
                if decision is not Decision.COPY or reason is not Reason.NEW:
                    spill_to(spill, item)  # so that a preview can say what would be held
            elif decision is Decision.COPY and reason is Reason.NEW and not of_folder(item):
                await acting.hand_on(item, pool)
            else:
                spill_to(spill, item)
        elif problem:
            self.book.progress.problems += 1
            self._unlike += reason in (Reason.CHANGED_THERE, Reason.BOTH_CHANGED)
            await self.book.add(
                self.book.record(item, error=reason.value, message=PROBLEM_WORDS[reason])
            )
        elif reason is Reason.RECOGNISED:
            await self._recognised(item)
        elif reason is Reason.SAME:
            await self._same(item)
        elif reason is Reason.ROW_DROPPED:
            self.book.dropped.append(item.key)
        else:
            self.book.count(item)

    def _unfit(self, key: bytes) -> str:
        """Why the far side can't hold a name: said before anything is read for it."""
        return self._job.target.store.unfit(self._job.target.prefix + key)

    async def _same(self, item: Item) -> None:
        """Unchanged:

        only counted; and not even that if this very run placed it before it was interrupted.
        """
        entry, far, row = item.entry, item.far, item.row
        if (
            entry is not None
            and row is not None
            and (row.racy or likeness(entry, row.source) is Likeness.TOUCHED)
        ):
            assert far is not None
            self._job.log(
                "looked", f"{show(item.key)}: same content as remembered.", key=show(item.key)
            )
            row = row._replace(source=fingerprint(entry), racy=False)
            await self.book.add(self.book.record(item, row=row))
        if row is None or row.run != self._job.run:
            self.book.progress.same += 1
            self.book.count(item)

    async def _recognised(self, item: Item) -> None:
        """Already there.

        If it is this run's own write, made before it was interrupted, it counts as the copy it was.
        """
        assert item.entry is not None and item.far is not None
        row = Row(
            item.key, fingerprint(item.entry), fingerprint(item.far), item.crc, run=self._job.run
        )
        own = await self._own_write(item)
        if own:
            kept = await self._kept_before(item.key)
            at_hand = (await self._job.target.store.abilities(self._job.target.prefix)).at_hand
            proof = (
                "read-back" if at_hand else "server-verified"
            )  # its content was compared a moment ago
            await self.book.add(
                self.book.record(own, row=row, proof=proof, crc=item.crc, kept=kept)
            )
            self.book.acted += 1
        elif item.verdict.decision is Decision.LEAVE:
            await self.book.add(self.book.record(item, row=row, crc=item.crc))

    async def _kept_before(self, key: bytes) -> str:
        """The fingerprint of what was set aside of it before the interruption; empty:

        nothing was.
        """
        aside = self._kept.get(key)
        if aside is not None:
            with contextlib.suppress(Missing):
                return fingerprint(
                    (await self._job.target.store.stat(aside.at, aside.version)).entry
                )
        return ""

    async def _own_write(self, item: Item) -> Item | None:
        """What lies there as the decision it came from, if this very run has put it there before it
        was interrupted.
        """
        assert item.entry is not None and item.far is not None
        if self._job.only_plan:
            return None
        if known := self._intended.get(item.key):
            return item._replace(verdict=Verdict(Decision(known[0]), Reason(known[1])))
        if not (await self._job.target.store.abilities(self._job.target.prefix)).keeps_metadata:
            return None
        card = (await self._job.target.store.stat(self._job.target.prefix + item.key)).card
        if not card or card.decision_id.removesuffix(REPLACED) != decision_id(
            self._job.run, self._job.leg, item.entry
        ):
            return None
        decision = Decision.REPLACE if card.decision_id.endswith(REPLACED) else Decision.COPY
        return item._replace(
            verdict=Verdict(decision, Reason.NEW if item.row is None else Reason.CHANGED)
        )

    # --- acting

    # --- looking once more

    async def far_side(self) -> dict[str, int]:
        """What the destination holds, listed once more against the ledger, and how much of it is
        not as intended.

        Where nothing was done, the plan's own listing has just said it.
        """
        if not self.book.acted:
            objects, size = self.far_seen
            return {
                "objects": objects,
                "bytes": size,
                "differences": self._unlike + self.book.not_done.total(),
            }
        job, objects, size, differences = self._job, 0, 0, 0
        self.book.phase(Phase.CHECKING)
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
                if row is not None and (
                    there is None or likeness(there, row.there) is Likeness.DIFFERENT
                ):
                    differences += 1
            await asyncio.sleep(0)
        return {
            "objects": objects,
            "bytes": size,
            "differences": differences + self.book.not_done[False],
        }


def _is_no_object(found: Found) -> bool:
    """A folder that is there for its files."""
    _, entry, there, row = found
    return (
        entry is None and row is None and there is not None and there.is_folder and there.is_place
    )
