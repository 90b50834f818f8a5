"""Three sorted listings in, a plan out: what is decided of each key, and where it goes then.

What is new is handed on at once, so that it is carried while the rest is still being listed. All
else waits in the plan's scratch file until the plan is whole: only then the guards can be asked.
"""

from __future__ import annotations

import time
from datetime import UTC, datetime
from functools import partial
from typing import IO, Protocol

from pinecart.core.decide import (
    Decision,
    Intent,
    Look,
    Reason,
    Verdict,
    consider,
    left_out,
)
from pinecart.core.entries import Entry, Likeness, Row, fingerprint, likeness
from pinecart.core.errors import Halting, StoreError
from pinecart.core.guards import HeldClass
from pinecart.core.listing import Found, Together
from pinecart.core.places import show
from pinecart.runner.closer_look import CloserLook
from pinecart.runner.decided_items import Item, class_of, of_folder, spill_to
from pinecart.runner.leg_context import Ledger, LegContext
from pinecart.runner.leg_tally import LegTally
from pinecart.runner.listing_streams import (
    Pages,
    far_entries,
    leg_rows,
    nothing,
    source_entries,
)
from pinecart.runner.name_folding import OneName, matched
from pinecart.runner.plan import Plan
from pinecart.runner.pool import Pool
from pinecart.runner.promise import digest_seen
from pinecart.runner.recovery import Recovery
from pinecart.runner.unchanged import (
    all_unchanged_bytes,
    is_left_if_unchanged,
    unchanged_bytes,
    was_sent_already,
)
from pinecart.runner.youngest_there import YoungestThere, youngest_there

MOST_TOLD = 100  # folders whose youngest file is told
ACTS = (Decision.COPY, Decision.REPLACE, Decision.REMOVE, Decision.CLEAR)
PROBLEM_WORDS = {
    Reason.CHANGED_THERE: "Somebody changed it there since it was placed. It was left untouched.",
    Reason.BOTH_CHANGED: (
        "It changed at both sides. Neither was touched; decide which one to keep."
    ),
    Reason.EXISTS: (
        "Something else lies there under this name, and the job says not to replace it."
    ),
    Reason.UNREADABLE: ("The service's account may not read this folder. Grant it the right."),
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


class TakesNew(Protocol):
    """Who carries what is new while the plan still grows."""

    async def hand_on(self, item: Item) -> None: ...

    async def all_done(self) -> None:
        """Wait until all that was handed on is carried, or recorded as a problem."""
        ...


class Planner:
    """Of one leg, for one plan."""

    def __init__(
        self, leg: LegContext, ledger: Ledger, tally: LegTally, names: OneName, recovery: Recovery
    ) -> None:
        self._leg = leg
        self._ledger = ledger
        self._tally = tally
        self._names = names
        self._recovery = recovery
        self._closer_look = CloserLook(leg)
        self._is_listed = False
        self._looking = 0  # questions that are not answered yet
        self._youngest: YoungestThere | None = None
        self._above: list[bytes] = []  # files of the source below whose names the next ones may lie

    async def plan(self, carries: TakesNew, pool: Pool, decisions: IO[str]) -> Plan:
        """List both sides and the ledger, and decide. Whole once it is given back.

        Raises StoreError or Incomplete where a listing is not to be trusted.
        """
        has_folders = await self._target_has_folders()
        if self._leg.younger_than:
            rows = self._ledger.pages(self._leg.number)
            self._youngest = await youngest_there(self._leg, rows, self._names)
            self._tell_youngest(self._youngest)
        plan = Plan(decisions)
        ways = _Ways(carries, pool, plan)
        await self._decide_all(ways, has_folders=has_folders)
        self._is_listed = True
        plan.made_at = time.monotonic()
        self._tell_if_complete()
        await carries.all_done()  # what was looked at more closely is in the plan then, too

        listed = self._tally.progress.listed
        self._leg.log("planned", f"Listing complete: {listed} names.", listed=listed)
        return plan

    def _tell_youngest(self, youngest: YoungestThere) -> None:
        in_order = sorted(youngest.times.items())
        for folder, modified_ns in in_order[:MOST_TOLD]:
            seconds = modified_ns / 10**9
            at = datetime.fromtimestamp(seconds, UTC)
            place = show(folder + b"/") if folder else "the destination"
            words = f"The youngest file in {place} is of {at:%Y-%m-%d %H:%M:%S} UTC."
            self._leg.log("youngest", words)

    async def _target_has_folders(self) -> bool:
        target = self._leg.target
        return (await target.store.abilities(target.prefix)).has_folders

    # --- listing

    async def _decide_all(self, ways: _Ways, *, has_folders: bool) -> None:
        """One walk over both listings and the ledger, in the order of keys. What is as it was is
        counted by whole pages where that is possible.
        """
        leg = self._leg
        seen = _Seen()
        now_ns = time.time_ns()
        skips_unchanged = leg.part.is_all and is_left_if_unchanged(leg)
        async for some in matched(self._sources(), self._fars(), self._rows(), self._names):
            same = same_bytes = 0
            if skips_unchanged and isinstance(some, Together):
                size = all_unchanged_bytes(leg, some)
                if size is not None:
                    same = len(some.rows)
                    same_bytes = size
                    some = []
            for found in some:
                if skips_unchanged and (size := unchanged_bytes(leg, found)) is not None:
                    same += 1
                    same_bytes += size
                    continue
                if leg.stopping():
                    return
                if _is_no_object(found) or not self._is_of_part(found):
                    continue
                why_not = self._see(found, seen, ways.plan, now_ns)
                if why_not is not None:
                    self._tally.count(Item(*found, left_out(why_not)))
                else:
                    await self._decide(found, ways, has_folders=has_folders)
            if leg.stopping():
                return
            self._tally.all_same(same, same_bytes)
            seen.add_same(same, same_bytes)
        seen.close(ways.plan, asked=leg.rules.intent is Intent.REMOVE)

    def _is_of_part(self, found: Found) -> bool:
        """Whether it lies in the part of the leg that was asked for, by its name at either side."""
        part = self._leg.part
        if part.is_all:
            return True
        key, entry, _, _ = found
        return part.takes(key, entry.source_key if entry else key)

    def _sources(self) -> Pages:
        leg = self._leg
        if leg.rules.intent is Intent.REMOVE:
            return nothing()
        return source_entries(
            leg.source, leg.one, leg.renaming, leg.scratch, leg.folders_taken, self._cuts
        )

    def _fars(self) -> Pages:
        return far_entries(self._leg.target, self._leg.one, self._cuts)

    def _rows(self) -> Pages:
        if self._leg.rules.intent is Intent.REMOVE:
            return nothing()
        return leg_rows(self._ledger.pages(self._leg.number), self._leg.one)

    async def _cuts(self) -> list[bytes]:
        return await self._ledger.cuts(self._leg.number)

    def _see(self, found: Found, seen: _Seen, plan: Plan, now_ns: int) -> Reason | None:
        """Count what is there, and ask the selection: the rule that leaves it out, or None."""
        key, entry, there, row = found
        if there is not None:
            seen.far_objects += not there.is_folder
            seen.far_bytes += there.size
        if entry is not None:
            self._tally.progress.listed += 1
            seen.sources += 1
            if entry.fault and (entry.fault == "unreadable" or key.endswith(b"/")):
                plan.hole = key
        if row is not None:
            seen.rows += not row.cleared

        if entry is not None:
            if self._leg.part.is_growing(entry.modified_ns, now_ns):
                return Reason.TOO_YOUNG
            is_known = row is not None and row.source == fingerprint(entry)
            if self._youngest and not is_known and self._youngest.leaves_out(key, entry):
                return Reason.NOT_YOUNGER
        selection = self._leg.selection
        if selection.is_everything:
            return None
        if entry is not None:
            return selection.why_not(entry.source_key, entry, now_ns)
        if self._leg.rules.intent is Intent.REMOVE:
            return selection.why_not(key, there, now_ns)
        return selection.why_not_gone(key, row.source if row else "", now_ns)

    # --- deciding

    async def _decide(self, found: Found, ways: _Ways, *, has_folders: bool) -> None:
        key, entry, there, row = found
        if entry is not None and has_folders:
            entry = self._without_those_below_a_file(entry)
            found = (key, entry, there, row)
        if was_sent_already(self._leg, found):
            same = Verdict(Decision.LEAVE, Reason.SAME)
            await self._same(Item(key, entry, there, row, same))
            return
        verdict = consider(entry, there, row, self._leg.rules)
        if isinstance(verdict, Look):
            self._looking += 1
            look = partial(self._look_and_route, found, ways)
            await ways.pool.add(look)
        else:
            crc = row.crc if row else ""
            item = Item(key, entry, there, row, verdict, crc)
            await self._route(item, ways)

    def _without_those_below_a_file(self, entry: Entry) -> Entry:
        """With its fault told, where it lies below a file that is taken too."""
        if entry.fault or not self._is_below_a_file(entry):
            return entry
        return entry._replace(fault="below-a-file")

    def _is_below_a_file(self, entry: Entry) -> bool:
        """Whether a file is taken too whose name is a folder's on the way to this one.

        Asked in the order of keys.
        """
        key = entry.key
        above = self._above
        while above and not key.startswith(above[-1]):
            above.pop()
        below = any(key[len(file) : len(file) + 1] == b"/" for file in above)
        if not (below or entry.is_folder):
            above.append(key)
        return below

    async def _look_and_route(self, found: Found, ways: _Ways) -> None:
        try:
            item = await self._closer_look.decide(*found)
        except Halting:
            raise
        except StoreError as exc:
            refused = Verdict(Decision.REFUSE, Reason.UNPROVEN, problem=True)
            await self._tally.failed(Item(*found, refused), exc, 0.0)
        else:
            await self._route(item, ways)
        finally:
            self._looking -= 1
            self._tell_if_complete()

    def _tell_if_complete(self) -> None:
        self._tally.progress.listing_complete = self._is_listed and self._looking == 0

    # --- where a decision goes

    async def _route(self, item: Item, ways: _Ways) -> None:
        """Counted, recorded, handed on at once, or kept until the plan is whole."""
        if self._leg.versions > 1:
            item = await self._recovery.series_gone_on_with(item)
        decision, reason, problem = item.verdict
        if decision in (Decision.COPY, Decision.REPLACE) and (why := self._unfit(item.key)):
            await self._refuse_name(item, why)
            return
        if decision is Decision.CLEAR and reason is Reason.RECOGNISED:
            await self._recognised(item)
        if decision in ACTS and self._is_not_promised(item):
            return
        if decision in ACTS and self._is_left_for_later(decision):
            self._tally.count(item._replace(verdict=Verdict(Decision.LEAVE, Reason.LATER)))
        elif decision in ACTS:
            await self._will_act(item, ways)
        elif problem:
            await self._problem(item, ways.plan)
        elif reason is Reason.RECOGNISED:
            await self._recognised(item)
        elif reason is Reason.SAME:
            await self._same(item)
        elif reason is Reason.ROW_DROPPED:
            self._tally.dropped.append(item.key)
        else:
            self._tally.count(item)

    def _is_not_promised(self, item: Item) -> bool:
        """Of a run that does what a preview found, and nothing else. What the preview knew and saw
        otherwise is listed at the end.
        """
        promise = self._leg.promise
        number = self._leg.number
        if promise is None or promise.holds_for(number, item):
            return False
        if not promise.knows(number, item.key):
            self._tally.count(item._replace(verdict=Verdict(Decision.LEAVE, Reason.LATER)))
        return True

    def _is_left_for_later(self, decision: Decision) -> bool:
        """Of a run of the first few files whatever else would be done."""
        first = self._leg.part.first
        if not first:
            return False
        is_carried = decision in (Decision.COPY, Decision.REPLACE)
        return not is_carried or self._tally.progress.planned_objects >= first

    def _unfit(self, key: bytes) -> str:
        """Why the far side can't hold a name: said before anything is read for it."""
        return self._leg.target.store.unfit(self._leg.target.prefix + key)

    async def _refuse_name(self, item: Item, why: str) -> None:
        self._tally.progress.problems += 1
        refused = item._replace(verdict=Verdict(Decision.REFUSE, Reason.UNSAFE_NAME, problem=True))
        await self._tally.add(self._tally.record(refused, error="unsafe-name", message=why))

    async def _will_act(self, item: Item, ways: _Ways) -> None:
        progress = self._tally.progress
        progress.planned_objects += 1
        if item.entry and item.verdict.decision is not Decision.CLEAR:
            progress.planned_bytes += item.entry.size

        is_new = item.verdict.decision is Decision.COPY and item.verdict.reason is Reason.NEW
        if not is_new:
            _count_for_guards(item, ways.plan)
        if self._leg.only_plan:
            seen = digest_seen(self._leg.number, item)
            await self._tally.add(self._tally.record(item, done=False, seen=seen))
            if not is_new:
                spill_to(ways.plan.decisions, item)  # a preview can say what would be held
        elif is_new and not of_folder(item):
            await ways.carries.hand_on(item)
        else:
            spill_to(ways.plan.decisions, item)

    async def _problem(self, item: Item, plan: Plan) -> None:
        tally = self._tally
        reason = item.verdict.reason
        tally.progress.problems += 1
        if reason in (Reason.CHANGED_THERE, Reason.BOTH_CHANGED):
            plan.changed_there += 1
        words = PROBLEM_WORDS[reason]
        shown = show(item.key)
        self._leg.log("problem", words, key=shown, code=reason.value)
        record = tally.record(item, error=reason.value, message=words)
        await tally.add(record)

    async def _same(self, item: Item) -> None:
        """Unchanged: only counted; and not even that if this very run placed it before it was
        interrupted.
        """
        entry = item.entry
        row = item.row
        if entry is not None and row is not None and _is_doubtful(entry, row):
            key = show(item.key)
            self._leg.log("looked", f"{key}: same content as remembered.", key=key)
            row = row._replace(source=fingerprint(entry), racy=False)
            await self._tally.add(self._tally.record(item, row=row))
        if row is None or row.run != self._leg.run:
            self._tally.progress.same += 1
            self._tally.count(item)

    async def _recognised(self, item: Item) -> None:
        """Already there. This run's own write, made before it was interrupted, counts as a copy."""
        assert item.entry is not None and item.far is not None
        source = fingerprint(item.entry)
        there = fingerprint(item.far)
        row = Row(item.key, source, there, item.crc, run=self._leg.run)
        own = await self._recovery.own_write(item)
        if own:
            await self._record_own(own, row)
        elif item.verdict.decision is Decision.LEAVE:
            record = self._tally.record(item, row=row, crc=item.crc)
            await self._tally.add(record)

    async def _record_own(self, own: Item, row: Row) -> None:
        """What a run that died had brought there, and we have just compared."""
        tally = self._tally
        target = self._leg.target
        able = await target.store.abilities(target.prefix)
        proof = "server-verified" if able.checksum else "read-back"
        kept = await self._recovery.kept_before(own.key)
        record = tally.record(own, row=row, proof=proof, crc=own.crc, kept=kept)
        await tally.add(record)
        tally.acted += 1


class _Ways:
    """Where a decision may go. carries: at once; pool: to be looked at; plan: later."""

    def __init__(self, carries: TakesNew, pool: Pool, plan: Plan) -> None:
        self.carries = carries
        self.pool = pool
        self.plan = plan


class _Seen:
    """What a plan has come across: sources, ledger rows (cleared ones aside), the far side."""

    def __init__(self) -> None:
        self.sources = self.rows = self.far_objects = self.far_bytes = 0

    def add_same(self, objects: int, size: int) -> None:
        """On all three sides."""
        self.sources += objects
        self.rows += objects
        self.far_objects += objects
        self.far_bytes += size

    def close(self, plan: Plan, *, asked: bool) -> None:
        """What was counted on the way, as the guards will compare it."""
        plan.far_objects = self.far_objects
        plan.far_bytes = self.far_bytes
        plan.counts = plan.counts._replace(
            rows=self.rows, source=self.sources, far=self.far_objects, asked=asked
        )


def _is_no_object(found: Found) -> bool:
    """A folder that is there for its files."""
    _, entry, there, row = found
    return (
        entry is None and row is None and there is not None and there.is_folder and there.is_place
    )


def _is_doubtful(entry: Entry, row: Row) -> bool:
    """Whether its content was compared, since its time alone proved nothing."""
    return row.racy or likeness(entry, row.source) is Likeness.TOUCHED


def _count_for_guards(item: Item, plan: Plan) -> None:
    """Whether it counts as removed, replaced or lost. A folder's own mark that goes is no file that
    goes.
    """
    decision, reason, _ = item.verdict
    is_place = item.far is not None and item.far.is_place
    if decision is Decision.REMOVE and not is_place:
        is_foreign = reason is Reason.FOREIGN
        plan.count(removals=1, foreign=is_foreign)
        return
    held = class_of(item.verdict)
    if held is HeldClass.REPLACEMENTS:
        plan.count(replaced=1)
    elif held is HeldClass.MISSING:
        plan.count(lost=1)
