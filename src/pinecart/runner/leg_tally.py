"""What a leg writes down while it plans, carries and takes away: records, counts, progress, the
log.
"""

from __future__ import annotations

from collections import Counter
from typing import Any

from pinecart.core.decide import Decision, Reason, Verdict
from pinecart.core.errors import StoreError
from pinecart.core.lifecycle import Phase
from pinecart.core.places import show
from pinecart.runner.batch_helper import GIVE_UP_AFTER
from pinecart.runner.decided_items import HeldList, Item, of_folder
from pinecart.runner.leg_context import LegContext
from pinecart.runner.progress import Progress
from pinecart.runner.records import Record, Recorder


class LegTally:
    """What became of one leg.

    counted: what was only counted: (decision, reason) → objects.   counted_bytes: their bytes.
    acted: objects carried or taken away.
    not_done: failures; True: nothing lies there, and the ledger says it should.
    dropped: keys whose ledger rows go.
    held: what waits for a person.
    """

    def __init__(self, leg: LegContext, recorder: Recorder, progress: Progress) -> None:
        self._leg = leg
        self._recorder = recorder
        self.progress = progress
        self.counted: Counter[tuple[str, str]] = Counter()
        self.counted_bytes: Counter[tuple[str, str]] = Counter()
        self.acted = 0
        self.not_done: Counter[bool] = Counter()
        self.dropped: list[bytes] = []
        self.held: list[HeldList] = []
        self._failing: tuple[str, int] = ("", 0)

    def sums(self) -> list[tuple[str, str, int, int]]:
        """(decision, reason, objects, bytes) of what was only counted."""
        return [(*kind, n, self.counted_bytes[kind]) for kind, n in self.counted.items()]

    def start_over(self) -> None:
        """A new plan: only what is done still counts."""
        self.counted.clear()
        self.counted_bytes.clear()
        self.not_done.clear()
        self.held.clear()
        self.progress.start_over()

    @property
    def gave_up(self) -> str:
        """The code of the failure that came so often in a row that nothing more is tried; empty: go
        on.
        """
        code, times = self._failing
        if times >= GIVE_UP_AFTER:
            return code
        return ""

    async def add(self, record: Record) -> None:
        if self._recorder.take(record):
            await self._recorder.flush()

    async def flush(self) -> None:
        await self._recorder.flush()

    def went_well(self) -> None:
        self._failing = ("", 0)
        self.acted += 1

    async def failed(self, item: Item, exc: StoreError, seconds: float) -> None:
        code, times = self._failing
        self._failing = (exc.code, times + 1 if exc.code == code else 1)
        self.progress.problems += 1
        was_there = item.verdict.reason in (Reason.MISSING_THERE, Reason.CHANGED)
        self.not_done[item.far is None and was_there] += 1
        self._leg.log("problem", exc.message, key=show(item.key), code=exc.code)
        record = self.record(
            item,
            done=False,
            seconds=seconds,
            tries=exc.facts.get("tries", 1),
            error=exc.code,
            message=exc.message,
        )
        await self.add(record)

    def record(self, item: Item, **rest: Any) -> Record:
        """Of one item, with its decision and reason. rest: fields that say more; the size is the
        source's, or else the far side's.
        """
        entry = item.entry
        if "size" not in rest:
            one = entry or item.far
            if one:
                rest["size"] = one.size
            else:
                rest["size"] = 0
        was = entry.was if entry else b""
        if was not in (b"", item.key):
            told = f"from {show(was)}"
            rest.setdefault("message", told)
        decision, reason, _ = item.verdict
        return Record(self._leg.number, item.key, decision.value, reason.value, **rest)

    def count(self, item: Item) -> None:
        if of_folder(item):
            return
        if item.entry:
            size = item.entry.size
        elif item.far:
            size = item.far.size
        else:
            size = 0
        kind = (item.verdict.decision.value, item.verdict.reason.value)
        self.counted[kind] += 1
        self.counted_bytes[kind] += size

    def phase(self, phase: Phase) -> None:
        if self.progress.enter(phase):
            self._leg.log("phase", f"{phase.value}.", phase=phase.value)

    def all_same(self, objects: int, size: int) -> None:
        """Many at once that are as they were: they are counted, and not recorded one by one."""
        if not objects:
            return
        kind = (Decision.LEAVE.value, Reason.SAME.value)
        self.counted[kind] += objects
        self.counted_bytes[kind] += size
        self.progress.same += objects
        self.progress.listed += objects

    async def overtaken(self, key: bytes, size: int) -> None:
        """A preview would have done something to it, and it is otherwise now."""
        left = Decision.LEAVE.value
        reason = Reason.OVERTAKEN.value
        await self.add(Record(self._leg.number, key, left, reason, size))

    def left(self, item: Item, reason: Reason) -> None:
        """It was to be removed or cleared, and isn't."""
        self.progress.planned_objects -= 1
        self.count(item._replace(verdict=Verdict(Decision.LEAVE, reason)))
