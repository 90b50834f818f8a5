"""One leg of a run or a preview, to the last look at the far side (docs/engine.md, section 4)."""

from __future__ import annotations

import tempfile

from pinecart.core.errors import Incomplete
from pinecart.core.folding import EXACT
from pinecart.core.guards import HeldClass
from pinecart.core.lifecycle import Phase
from pinecart.runner.concurrency import ConcurrencyController
from pinecart.runner.executor import Executor
from pinecart.runner.guard_gate import GuardGate
from pinecart.runner.leg_context import Ledger, LegContext
from pinecart.runner.leg_tally import LegTally
from pinecart.runner.name_folding import OneName, one_name
from pinecart.runner.object_transfer import ObjectTransfer
from pinecart.runner.plan import Plan
from pinecart.runner.planner import Planner
from pinecart.runner.pool import Pool
from pinecart.runner.recovery import Recovery
from pinecart.runner.verifier import FarSide, Verifier

MOST_PLANS = 50


async def run_leg(leg: LegContext, ledger: Ledger, tally: LegTally) -> FarSide | None:
    """Plan, hold back what looks wrong, act in the safe order, and look once more.

    What became of it is in `tally`, also where an error ends it. None: it was not looked at once
    more, since it is a preview or of a part, was stopped, or something waits for a person.
    Raises StoreError or Incomplete when the leg as a whole can't be worked on.
    """
    await _connect(leg, tally)
    names = await _names_of(leg)
    recovery = Recovery(leg, ledger, tally)
    if not leg.only_plan:
        await recovery.settle()

    transfer = ObjectTransfer(leg.transfer_options, shares=leg.shares, progress=tally.progress)
    for _ in range(MOST_PLANS):
        planner = Planner(leg, ledger, tally, names, recovery)
        plan, is_done = await _plan_and_act(leg, ledger, tally, planner, transfer)
        if is_done:
            break
        _start_over(leg, tally)
    else:
        raise _always_too_old()

    if leg.promise is not None and not leg.stopping():
        await _list_overtaken(leg, ledger, tally)
    if tally.dropped and not leg.only_plan:
        await ledger.drop(leg.number, tally.dropped)
    await tally.flush()
    if leg.only_plan or leg.stopping() or tally.held or not leg.part.is_whole:
        return None
    await ledger.settled(leg.number)
    return await Verifier(leg, ledger, tally, names).look_again(plan)


async def _connect(leg: LegContext, tally: LegTally) -> None:
    tally.phase(Phase.CONNECTING)
    for side in (leg.source, leg.target):
        await side.store.check_place(side.prefix)


async def _names_of(leg: LegContext) -> OneName:
    """Which spellings are one name at either side, found out before anything is planned; of a
    single file no others matter.
    """
    if leg.one:
        return OneName(EXACT, at_target=False, scratch=leg.scratch)
    return await one_name(leg.source, leg.target, leg.scratch)


async def _plan_and_act(
    leg: LegContext, ledger: Ledger, tally: LegTally, planner: Planner, transfer: ObjectTransfer
) -> tuple[Plan, bool]:
    """The plan, and whether it was good to the end; else it has grown too old to remove more by."""
    controller = ConcurrencyController(leg.most_at_once)
    tally.phase(Phase.LISTING)
    with (
        tempfile.TemporaryFile("w+", dir=leg.scratch.folder) as decisions,
        tempfile.TemporaryFile("w+", dir=leg.scratch.folder) as clearings,
    ):
        async with Pool(controller) as pool:
            executor = Executor(leg, ledger, tally, transfer, pool, controller, clearings)
            plan = await planner.plan(executor, pool, decisions)
            held = set[HeldClass]()
            if not leg.stopping():
                held = await GuardGate(leg, tally).check(plan)
            if leg.only_plan:
                return plan, True
            return plan, await executor.carry_out(plan, without=held)


async def _list_overtaken(leg: LegContext, ledger: Ledger, tally: LegTally) -> None:
    """What a preview would have done, and wasn't: it is no longer as it was then."""
    await tally.flush()
    async for left in ledger.overtaken(leg.number):
        for key, size in left:
            await tally.overtaken(key, size)
    await tally.flush()


def _start_over(leg: LegContext, tally: LegTally) -> None:
    message = (
        "The plan is over ten minutes old: both sides are listed again before more is removed."
    )
    leg.log("planned-anew", message)
    tally.start_over()


def _always_too_old() -> Incomplete:
    message = (
        f"Both sides were listed {MOST_PLANS} times, and each time the work before the removals "
        "took over ten minutes. Mend the problems listed, and start it again."
    )
    return Incomplete(message, code="plan.always-old")
