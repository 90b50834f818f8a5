"""What of a plan may act now, and what waits for a person."""

from __future__ import annotations

from collections.abc import Iterator

from pinecart.core.decide import Decision
from pinecart.core.guards import HeldClass, Hold, holds, list_digest
from pinecart.core.places import show
from pinecart.runner.decided_items import HeldList, Item, class_of, line_of, spilled
from pinecart.runner.leg_context import LegContext
from pinecart.runner.leg_tally import LegTally
from pinecart.runner.plan import Plan


class GuardGate:
    """Each guard holds its own class of decisions: its list goes into the records, to be seen."""

    def __init__(self, leg: LegContext, tally: LegTally) -> None:
        self._leg = leg
        self._tally = tally

    async def check(self, plan: Plan) -> set[HeldClass]:
        """The classes that don't act now."""
        held = set[HeldClass]()
        if plan.hole and plan.counts.removals:
            held.add(HeldClass.REMOVALS)
            await self._leave_removals(plan)
        counts = plan.counts._replace(fresh=self._leg.fresh)
        for hold in holds(counts, self._leg.limits):
            if hold.what in held:
                continue
            digest = list_digest(line_of(item) for item in _of_class(plan, hold.what))
            if digest in self._leg.released:  # a person said yes to exactly this list
                self._leg.log("released", f"Released: {hold.message}", digest=digest)
            else:
                held.add(hold.what)
                await self._hold(plan, hold, digest)
        return held

    async def _hold(self, plan: Plan, hold: Hold, digest: str) -> None:
        """Each of its objects is recorded as not done, and the list as a whole waits for somebody's
        yes under its digest.
        """
        objects = size = 0
        for item in _of_class(plan, hold.what):
            record = self._tally.record(item, done=False)
            objects += 1
            size += record.size
            if not self._leg.only_plan:
                await self._tally.add(record)
        self._tally.held.append(
            HeldList(
                self._leg.number, hold.what.value, hold.guard, hold.message, objects, size, digest
            )
        )
        self._leg.log("held", hold.message, guard=hold.guard, digest=digest)

    async def _leave_removals(self, plan: Plan) -> None:
        """The source's listing has a hole: nothing may be removed by it, and each file says why."""
        message = (
            f"Not removed: the folder {show(plan.hole)} of the source can't be entered, so nobody "
            "knows what is gone. Grant the service's account the right."
        )
        for item in spilled(plan.decisions, Decision.REMOVE):
            self._tally.progress.problems += 1
            await self._tally.add(
                self._tally.record(item, done=False, error="source-unreadable", message=message)
            )


def _of_class(plan: Plan, what: HeldClass) -> Iterator[Item]:
    return (i for i in spilled(plan.decisions, None) if class_of(i.verdict) is what)
