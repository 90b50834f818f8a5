"""Which run goes next, and why the others wait."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from datetime import datetime
from functools import lru_cache
from itertools import product

from django.db import transaction
from django.db.models import F
from django.utils import timezone

from pinecart.core.decide import Intent
from pinecart.core.hours import Hours, parse_hours
from pinecart.core.lifecycle import CLAIMABLE, Event, RunState, advance
from pinecart.core.places import Location, parse_location
from pinecart.core.totals import size_text
from pinecart.service.config.rights import SYSTEM, Right
from pinecart.service.runs.models import LOOKING, Run
from pinecart.service.runs.selectors import transfer_under_way
from pinecart.service.runs.services.life_cycle import requeue, tell_state
from pinecart.service.stores.selectors import Place, place_of, runs_at_once
from pinecart.service.trail.services import change

TAKEN_AT_ONCE = 50
OUT_OF_HOURS = "run.out-of-hours"
DISK_LOW = "disk.low"
LOW_DISK = "Waits for disk"


def claim_next(*, now: datetime, limit: int) -> Run | None:
    """Of the runs that may start the one of the highest priority, of those the oldest, under a new
    epoch. None: nothing may start now.

    Only the worker claims, one at a time: what is working now still is when it is written down.
    """
    working = list(Run.objects.filter(state=RunState.WORKING.value))
    if len(working) >= limit:
        return None
    place = lru_cache(maxsize=None)(place_of)
    for run in _claimable():
        waits = _waits_for(run, working, place, now)
        if not waits:
            claimed = _claim(run)
            if claimed:
                return claimed
            continue
        if run.message != waits:
            Run.objects.filter(pk=run.pk).update(message=waits)
    return None


def _claimable() -> Iterator[Run]:
    """In turn, some at a time: while a listing is open, nothing can be written after another
    process wrote.
    """
    states = [state.value for state in CLAIMABLE]
    waiting = Run.objects.filter(state__in=states)
    for priority in sorted(set(waiting.values_list("priority", flat=True)), reverse=True):
        after = 0
        while some := list(
            waiting.filter(priority=priority, pk__gt=after).order_by("id")[:TAKEN_AT_ONCE]
        ):
            yield from some
            after = some[-1].pk


@transaction.atomic
def _claim(run: Run) -> Run | None:
    """None: it was stopped, or paused, a moment ago. It begins after all that it waited for."""
    now = timezone.now()
    claimed = Run.objects.filter(pk=run.pk, state=run.state).update(
        state=advance(RunState(run.state), Event.CLAIMED).value,
        epoch=F("epoch") + 1,
        started_at=run.started_at or now,
        message="",
        told_at=now,
    )
    if not claimed:
        return None
    run.refresh_from_db()
    tell_state(run)
    return run


def hold_back(free: int, *, all_pause: bool) -> None:
    """Too little disk is free: nothing starts, and under the lower limit what works is paused."""
    why = (
        f"{LOW_DISK}: only {size_text(free)} of disk are free where Pine Cart keeps its records. "
        "Make room."
    )
    Run.objects.filter(state__in=[s.value for s in CLAIMABLE]).update(message=why)
    if all_pause:
        working = Run.objects.filter(
            state=RunState.WORKING.value, pause_wanted=False, stop_wanted=False
        )
        working.update(pause_wanted=True, message=why, code=DISK_LOW)


def go_on_after_low_disk() -> None:
    """There is room again: what was paused for the lack of it goes on by itself."""
    for run in Run.objects.filter(state=RunState.PAUSED.value, code=DISK_LOW):
        with change(SYSTEM) as made:
            made.must(Right.OPERATE, run.labels, "going on")
            requeue(made, run, Event.RESUME, "run.resumed-with-room")
    waiting = Run.objects.filter(
        state__in=[s.value for s in CLAIMABLE], message__startswith=LOW_DISK
    )
    if waiting.exists():
        waiting.update(message="")


def keep_hours(now: datetime) -> None:
    """What works outside its allowed hours is paused; what was paused for them goes on in them."""
    working = Run.objects.filter(
        state=RunState.WORKING.value, kind="transfer", pause_wanted=False, stop_wanted=False
    )
    for run in working:
        hours = _hours_of(run)
        if hours and not hours.include(now):
            this = Run.objects.filter(pk=run.pk, pause_wanted=False)
            this.update(pause_wanted=True, message=_waits_for_hours(run), code=OUT_OF_HOURS)
    for run in Run.objects.filter(state=RunState.PAUSED.value, code=OUT_OF_HOURS):
        hours = _hours_of(run)
        if hours is None or hours.include(now):
            with change(SYSTEM) as made:
                made.must(Right.OPERATE, run.labels, "going on")
                requeue(made, run, Event.RESUME, "run.resumed-in-hours")


def _hours_of(run: Run) -> Hours | None:
    text = run.definition.get("hours")
    if text:
        return parse_hours(text)
    return None


def _waits_for_hours(run: Run) -> str:
    return f"Waits for its allowed hours, {run.definition['hours']}."


def _waits_for(
    run: Run, working: Collection[Run], place: Callable[[Location], Place], now: datetime
) -> str:
    """Why it can't start yet, as it is told; empty: it can."""
    hours = _hours_of(run) if run.kind == "transfer" else None
    if hours and not hours.include(now):
        return _waits_for_hours(run)
    if run.waits:
        busy = transfer_under_way(run.job)
        if busy:
            return f"Waits for run {busy.pk} of {busy.job} to end."
    for other in working:
        if _overlap(run, other, place):
            return f"Waits for run {other.pk} of {other.job}, which writes to the same place."
    return _waits_for_a_store(run, working)


def _waits_for_a_store(run: Run, working: Collection[Run]) -> str:
    """Where a store of it bears no more runs at once."""
    for name in sorted(_stores(run)):
        there = [other for other in working if name in _stores(other)]
        if not there:
            continue
        most = runs_at_once(name)
        if most and len(there) >= most:
            of_those = "1 run" if most == 1 else f"{most} runs"
            first = there[0].pk
            return f"Waits for run {first}: the store {name} takes {of_those} at once."
    return ""


def _stores(run: Run) -> set[str]:
    legs = run.definition["legs"]
    return {parse_location(leg[side]).store for leg in legs for side in ("from", "to")}


def _overlap(a: Run, b: Run, place: Callable[[Location], Place]) -> bool:
    """Whether two runs write where the other writes. Previews and audits write nowhere."""
    if a.kind in LOOKING or b.kind in LOOKING:
        return False
    of_a = _claims(a, place)
    of_b = _claims(b, place)
    pairs = product(of_a, of_b)
    return any(mine.touches(theirs) for mine, theirs in pairs)


def _claims(run: Run, place: Callable[[Location], Place]) -> list[Place]:
    """What a run writes to: its destinations, and the sources that it clears."""
    both = run.kind in ("undo", "expiry") or run.definition["intent"] == Intent.HAND_OVER.value
    texts = [
        leg[side]
        for leg in run.definition["legs"]
        for side in (("to", "from") if both else ("to",))
    ]
    return [place(parse_location(text)) for text in texts]
