from __future__ import annotations

from collections.abc import Callable, Collection
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any

from django.db import transaction
from django.db.models import F, Q
from django.utils import timezone

from pinecart.core.decide import Intent, Reason
from pinecart.core.definition import Definition
from pinecart.core.definition_reading import read_definition
from pinecart.core.errors import SignInRefused
from pinecart.core.lifecycle import CLAIMABLE, Event, Outcome, RunState, advance
from pinecart.core.option_spec import CARRY
from pinecart.core.places import Location, parse_location, shown_lines
from pinecart.core.totals import outcome_of, size_text
from pinecart.runner.run import Ending
from pinecart.service.config.refusals import StateConflict
from pinecart.service.config.rights import SYSTEM, Actor, Right
from pinecart.service.runs.models import (
    AsideRow,
    Run,
    RunEvent,
    UploadRow,
)
from pinecart.service.runs.selectors import (
    alive_of,
    held_digest,
    run_beside,
    run_numbered,
    run_of,
    run_told,
    transfer_under_way,
)
from pinecart.service.runs.services.epochs import hold_epoch
from pinecart.service.stores.selectors import Place, place_of, store_named
from pinecart.service.trail.services import note

HELD_DAYS = 7
DISK_LOW, LOW_DISK = "disk.low", "Waits for disk"
UPLOADS_AFTER = timedelta(
    minutes=10
)  # after a run's end the clock looks after what it left unfinished


def right_to_run(kind: str, definition: Definition) -> Right:
    """What every way that starts a run, or lets one go on, asks for.

    A job's removals were defined by somebody who may; where there is no job, it is this call that
    removes. What an undo takes away is set aside, always.
    """
    return Right.DEFINE if definition.removes_unreviewed and kind != "undo" else Right.OPERATE


def _must_run(actor: Actor, run: Run, what: str) -> None:
    actor.must(right_to_run(run.kind, read_definition(run.definition)), run.labels, what)


@transaction.atomic
def start_run(
    actor: Actor,
    definition: Definition,
    *,
    kind: str,
    cause: str,
    alone: bool = True,
    of: int | None = None,
    waits: bool = False,
) -> Run:
    """Queue a run.

    Raises NotAllowed, Conflict if one of the same job is under way (and it must be alone).
    """
    actor.must(right_to_run(kind, definition), definition.labels, f"starting {definition.job!r}")
    under_way = alive_of(definition.job, kind) if alone else None
    if under_way:
        message = (
            f"{definition.job!r} is being worked on already: run {under_way.pk}. Follow it with: "
            f"pinecart run follow {under_way.pk}"
        )
        raise StateConflict(message, code="run.under-way", run=under_way.pk)
    run = Run.objects.create(
        kind=kind,
        job=definition.job,
        definition=definition.as_mapping(),
        labels=list(definition.labels),
        state=RunState.QUEUED.value,
        cause=cause,
        queued_at=timezone.now(),
        of=of,
        waits=waits,
        rate=definition.rate,
    )
    _tell_state(run)
    note(actor, f"{kind}.started", definition.job, run=run.pk)
    return run


@transaction.atomic
def record_skipped(definition: Definition, *, cause: str, why: str, now: datetime) -> None:
    """A run that came due and did not start, with the reason."""
    Run.objects.create(
        kind="transfer",
        job=definition.job,
        definition=definition.as_mapping(),
        labels=list(definition.labels),
        state=RunState.ENDED.value,
        outcome=Outcome.SKIPPED.value,
        cause=cause,
        queued_at=now,
        ended_at=now,
        message=why,
    )


@transaction.atomic
def stop_run(actor: Actor, number: int) -> Run:
    """Ask a run to stop cleanly; one that no process works on ends at once.

    Raises NotFound, NotAllowed, WrongMoment.
    """
    run = run_numbered(number, actor)
    actor.must(Right.OPERATE, run.labels, f"stopping run {number}")
    advance(RunState(run.state), Event.FINISHED)
    Run.objects.filter(pk=number).update(stop_wanted=True)
    note(actor, "run.stop", run.job, run=number)
    run.refresh_from_db()
    if run.state in [s.value for s in (*CLAIMABLE, RunState.HELD, RunState.PAUSED)]:
        if run.state == RunState.PAUSED.value and UploadRow.objects.filter(run=run).exists():
            return _requeue(
                actor, run, Event.RESUME, "run.stopping"
            )  # a process takes its unfinished uploads away
        _end(run, Outcome.STOPPED)
    return run


@transaction.atomic
def limit_run(actor: Actor, number: int, rate: int | None) -> Run:
    """So many bytes per second from now on; None: no limit. Raises NotFound, NotAllowed,
    WrongMoment.
    """
    run = run_numbered(number, actor)
    actor.must(Right.OPERATE, run.labels, f"limiting run {number}")
    advance(RunState(run.state), Event.FINISHED)  # only one that is not over
    Run.objects.filter(pk=number).update(rate=rate)
    note(actor, "run.limited", run.job, run=number, before={"rate": run.rate}, after={"rate": rate})
    run.refresh_from_db()
    return run


@transaction.atomic
def pause_run(actor: Actor, number: int) -> Run:
    """Ask a run to pause: what is in flight is finished. Raises
    NotFound, NotAllowed, WrongMoment.
    """
    run = run_numbered(number, actor)
    actor.must(Right.OPERATE, run.labels, f"pausing run {number}")
    state = RunState(run.state)
    if state is RunState.WORKING:
        Run.objects.filter(pk=number).update(pause_wanted=True, code="")
    else:
        Run.objects.filter(pk=number).update(
            state=advance(state, Event.PAUSE).value, message=f"Paused by {actor.name}.", code=""
        )
    note(actor, "run.pause", run.job, run=number)
    run.refresh_from_db()
    _tell_state(run)
    return run


@transaction.atomic
def resume_run(actor: Actor, number: int) -> Run:
    """A paused run goes on; both sides are listed anew.

    Raises NotFound, NotAllowed, WrongMoment.
    """
    run = run_numbered(number, actor)
    _must_run(actor, run, f"resuming run {number}")
    return _requeue(actor, run, Event.RESUME, "run.resume")


@transaction.atomic
def release_run(actor: Actor, number: int, *, digest: str, why: str) -> Run:
    """Say yes to the list with this digest.

    Raises NotFound, NotAllowed, WrongMoment, Conflict if it is another list by now.
    """
    run = run_numbered(number, actor)
    _must_run(actor, run, f"releasing run {number}")
    advance(RunState(run.state), Event.RELEASED)
    if digest != held_digest(run):
        message = (
            f"Run {number} waits with another list than the one you saw ({digest}). Look again: "
            f"pinecart run show {number}"
        )
        raise StateConflict(message, code="run.other-list")
    run.released = sorted({*run.released, *(h["digest"] for h in run.holds)})
    run.save(update_fields=["released"])
    return _requeue(actor, run, Event.RELEASED, "run.released", why=shown_lines(why), digest=digest)


@transaction.atomic
def decline_run(actor: Actor, number: int, *, why: str) -> Run:
    """Say no: what is held is not done, and the run ends. Raises
    NotFound, NotAllowed, WrongMoment.
    """
    run = run_numbered(number, actor)
    actor.must(Right.OPERATE, run.labels, f"declining run {number}")
    advance(RunState(run.state), Event.RELEASED)
    why = shown_lines(why)
    note(actor, "run.declined", run.job, run=number, why=why)
    return end_held(run, f"Cancelled by {actor.name}{': ' + why if why else '.'}")


def end_held(run: Run, message: str) -> Run:
    """End a run that waits; what it carried out before stays. In the caller's transaction."""
    run.message = message
    run.save(update_fields=["message"])
    _end(run, Outcome.STOPPED)
    return run


def _requeue(actor: Actor, run: Run, event: Event, action: str, **facts: Any) -> Run:
    state = advance(RunState(run.state), event)
    Run.objects.filter(pk=run.pk).update(
        state=state.value, pause_wanted=False, holds=[], held_at=None, message="", code=""
    )
    note(actor, action, run.job, run=run.pk, **facts)
    run.refresh_from_db()
    _tell_state(run)
    return run


def retry_run(actor: Actor, number: int) -> Run:
    """The same once more, by the definition as it was: only what isn't done yet is done. Raises
    NotFound, Conflict, NotAllowed.
    """
    run = run_numbered(number, actor)
    if run.state != RunState.ENDED.value:
        raise StateConflict(
            f"Run {number} is not over yet. Follow it with: pinecart run follow {number}",
            code="run.not-over",
        )
    definition = read_definition(run.definition)
    cause = f"retry of run {number} by {actor.name}"
    return start_run(
        actor, definition, kind=run.kind, cause=cause, alone=run.job != CARRY, of=run.of
    )


def undo_run(actor: Actor, number: int, *, preview: bool) -> Run:
    """Take back what a run did, in a run of its own.

    Raises NotFound, Conflict (it isn't over, or too little is known).
    """
    run = run_numbered(number, actor)
    if run.state != RunState.ENDED.value or run.kind != "transfer":
        why = "is not over yet" if run.kind == "transfer" else f"is a run of the kind {run.kind!r}"
        raise StateConflict(f"Run {number} {why}: it can't be undone.", code="run.not-undone")
    kind = "preview" if preview else "undo"
    cause = f"undoes run {number}, for {actor.name}"
    return start_run(
        actor, read_definition(run.definition), kind=kind, cause=cause, alone=False, of=number
    )


def claim_next(*, now: datetime, limit: int) -> Run | None:
    """The oldest run that may start, under a new epoch. None: nothing may start now.

    Only the worker claims, one at a time: what is working now still is when it is written down.
    """
    working = list(Run.objects.filter(state=RunState.WORKING.value))
    if len(working) >= limit:
        return None
    place = lru_cache(maxsize=None)(place_of)
    for run in (
        Run.objects.filter(state__in=[s.value for s in CLAIMABLE]).order_by("id").iterator(50)
    ):
        waits = _waits_for(run, working, place)
        if not waits:
            if claimed := _claim(run, now):
                return claimed
            continue
        if run.message != waits:
            Run.objects.filter(pk=run.pk).update(message=waits)
    return None


@transaction.atomic
def _claim(run: Run, now: datetime) -> Run | None:
    """None: it was stopped, or paused, a moment ago."""
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
    _tell_state(run)
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
        with transaction.atomic():
            _requeue(SYSTEM, run, Event.RESUME, "run.resumed-with-room")
    waiting = Run.objects.filter(
        state__in=[s.value for s in CLAIMABLE], message__startswith=LOW_DISK
    )
    if waiting.exists():
        waiting.update(message="")


def fail_unstarted(run: Run, message: str) -> None:
    """A run that was claimed, and no process could be given it."""
    with transaction.atomic():
        if Run.objects.filter(pk=run.pk, epoch=run.epoch, state=RunState.WORKING.value).update(
            message=message
        ):
            run.refresh_from_db()
            _end(run, Outcome.FAILED)


@transaction.atomic
def release_refused(actor: Actor, store: str) -> list[Run]:
    """One yes for every run that waits since a store refused its key: for after the key was put
    right. Those the actor may operate; gives them. Raises NotFound, NotAllowed.
    """
    store_named(store, actor)
    waiting = [
        r
        for r in Run.objects.filter(state=RunState.HELD.value)
        if not r.holds and store in _stores_of(r)
    ]
    mine = [
        r
        for r in waiting
        if actor.may(right_to_run(r.kind, read_definition(r.definition)), r.labels)
    ]
    if waiting and not mine:
        _must_run(actor, waiting[0], f"letting the runs of {store!r} go on")
    return [
        _requeue(actor, run, Event.RELEASED, "run.released", why=f"{store} was put right")
        for run in mine
    ]


def _stores_of(run: Run) -> set[str]:
    return {
        parse_location(leg[side]).store for leg in run.definition["legs"] for side in ("from", "to")
    }


def _waits_for(run: Run, working: Collection[Run], place: Callable[[Location], Place]) -> str:
    """Why it can't start yet, as it is told; empty: it can."""
    if run.waits and (busy := transfer_under_way(run.job)):
        return f"Waits for run {busy.pk} of {busy.job} to end."
    other = next((w for w in working if _overlap(run, w, place)), None)
    return (
        f"Waits for run {other.pk} of {other.job}, which writes to the same place." if other else ""
    )


def _overlap(a: Run, b: Run, place: Callable[[Location], Place]) -> bool:
    """Whether two runs write where the other writes. Previews and audits write nowhere."""
    if a.kind in ("preview", "audit") or b.kind in ("preview", "audit"):
        return False
    return any(x.touches(y) for x in _claims(a, place) for y in _claims(b, place))


def _claims(run: Run, place: Callable[[Location], Place]) -> list[Place]:
    """What a run writes to: its destinations, and the sources that it clears."""
    both = run.kind in ("undo", "expiry") or run.definition["intent"] == Intent.HAND_OVER.value
    texts = [
        leg[side]
        for leg in run.definition["legs"]
        for side in (("to", "from") if both else ("to",))
    ]
    return [place(parse_location(text)) for text in texts]


def interrupt(run: Run) -> None:
    """Its process is gone. It goes on by itself when it is claimed again."""
    with transaction.atomic():
        state = advance(RunState.WORKING, Event.PROCESS_DIED)
        changed = Run.objects.filter(
            pk=run.pk, epoch=run.epoch, state=RunState.WORKING.value
        ).update(state=state.value)
        if changed:
            run.refresh_from_db()
            _tell_state(run)
            if run.stop_wanted:
                _end(run, Outcome.STOPPED)


@transaction.atomic
def end_run(number: int, epoch: int, ending: Ending) -> None:
    """Write down how it went. Raises Superseded."""
    hold_epoch(number, epoch)
    run = Run.objects.get(pk=number)
    run.counted, run.far_side = [list(c) for c in ending.counted], ending.far_side
    if ending.error is not None:
        run.message, run.code = ending.error.message, ending.error.code
    run.holds = [h._asdict() for h in ending.held]
    run.save(update_fields=["counted", "far_side", "message", "code", "holds"])
    if _waits(run, ending):
        return
    if run.kind in ("preview", "audit") and not run.message and (beside := run_beside(run)):
        run.message = (
            f"Run {beside.pk} of this job was under way meanwhile: what it had not finished is "
            "told here as well. To come after it: --wait."
        )
        run.save(update_fields=["message"])
    told = run_told(run)
    differs = bool(run.far_side and run.far_side["differences"])
    problems = told["problems"] + told["findings"] + differs
    failed, folders = ending.error is not None, sum(told["folders"].values())
    later = sum(
        told["reasons"].get(f"leave {reason}", 0) for reason in (Reason.TOO_YOUNG, Reason.AWAITED)
    )
    _end(
        run,
        outcome_of(
            told["totals"],
            problems=problems,
            stopped=ending.stopped,
            failed=failed,
            folders=folders,
            later=later,
        ),
    )


def _waits(run: Run, ending: Ending) -> bool:
    """Whether a run that came to its end is not over: held by a guard or a refused
    key, or paused.
    """
    if run.kind in ("preview", "audit") or run.stop_wanted:
        return False
    if isinstance(ending.error, SignInRefused):
        event = Event.REFUSED_SIGN_IN
    elif ending.error is None and ending.stopped and run.pause_wanted:
        event = Event.PAUSE
    elif ending.error is None and ending.held and not ending.stopped:
        event = Event.GUARD_HELD
        run.message = " ".join(h.message for h in ending.held)
    else:
        return False
    run.state, run.held_at = advance(RunState(run.state), event).value, timezone.now()
    run.save(update_fields=["state", "held_at", "message"])
    _tell_state(run)
    return True


def end_overdue_holds(now: datetime) -> None:
    """A hold ends by itself after seven days."""
    for run in Run.objects.filter(
        state=RunState.HELD.value, held_at__lt=now - timedelta(days=HELD_DAYS)
    ):
        with transaction.atomic():
            end_held(run, f"Nobody said yes within {HELD_DAYS} days. {run.message}")


def start_due_clearing(now: datetime) -> None:
    """One run for each run whose set-aside has had its days, or that left uploads unfinished."""
    due = AsideRow.objects.filter(
        version="", state__in=["meant", "kept"], until__lt=now, run__state=RunState.ENDED.value
    )
    over = UploadRow.objects.filter(
        run__state=RunState.ENDED.value, run__ended_at__lt=now - UPLOADS_AFTER
    )
    uploads = over.filter(Q(clear_at=None) | Q(clear_at__lt=now))
    for rows, again, what in (
        (due, {"until": now + timedelta(days=1)}, "set aside"),
        (uploads, {"clear_at": now + timedelta(days=1)}, "left unfinished at a store"),
    ):
        for number in rows.values_list("run_id", flat=True).distinct()[:5]:
            if not Run.objects.filter(kind="expiry", of=number, ended_at__isnull=True).exists():
                definition = read_definition(run_of(number).definition)
                cause = f"clears away what run {number} {what}"
                start_run(SYSTEM, definition, kind="expiry", cause=cause, alone=False, of=number)
                rows.filter(run_id=number).update(**again)


def _end(run: Run, outcome: Outcome) -> None:
    state = advance(RunState(run.state), Event.FINISHED)
    run.state, run.outcome, run.ended_at = state.value, outcome.value, timezone.now()
    run.save(update_fields=["state", "outcome", "ended_at"])
    RunEvent.objects.filter(run=run, kind="progress").delete()
    _tell_state(run)


def _tell_state(run: Run) -> None:
    RunEvent.objects.create(
        run=run, kind="state", payload={"state": run.state, "outcome": run.outcome}
    )
