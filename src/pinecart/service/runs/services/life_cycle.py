"""The life of a run: it is started, asked to stop or pause, goes on, ends."""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.utils import timezone

from pinecart.core.audit import AuditRules, read_rules
from pinecart.core.decide import Reason
from pinecart.core.definition import Definition
from pinecart.core.definition_reading import read_definition
from pinecart.core.errors import SignInRefused
from pinecart.core.lifecycle import CLAIMABLE, Event, Outcome, RunState, advance
from pinecart.core.option_spec import CARRY
from pinecart.core.part import ALL, Part, read_part
from pinecart.core.totals import outcome_of
from pinecart.runner.run import Ending
from pinecart.service.aside.selectors import (
    has_uploads,
    runs_with_asides_due,
    runs_with_uploads_due,
)
from pinecart.service.aside.services import try_asides_again, try_uploads_again
from pinecart.service.config.refusals import StateConflict
from pinecart.service.config.rights import SYSTEM, Actor, Right
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.models import LOOKING, Run, RunEvent
from pinecart.service.runs.presentation import run_told
from pinecart.service.runs.selectors import alive_of, run_beside, run_numbered, run_of
from pinecart.service.runs.services.epochs import hold_epoch
from pinecart.service.runs.services.tallies import count_run
from pinecart.service.settings.selectors import as_it_runs
from pinecart.service.trail.services import Change, change, note

PRIORITIES = {"first": 1, "usual": 0, "last": -1}
UNDER_WAY = ("queued", "working", "interrupted")
MOST_COURSE = 1000  # points of a course
CLEARED_AT_ONCE = 5  # runs whose remains are cleared away, in one turn of the clock
UPLOADS_AFTER = timedelta(minutes=10)  # after a run's end: then the clock looks for unfinished ones


def right_to_run(kind: str, definition: Definition) -> Right:
    """What every way that starts a run, or lets one go on, asks for.

    A job's removals were defined by somebody who may; where there is no job, it is this call that
    removes. What an undo takes away is set aside, always.
    """
    if definition.removes_unreviewed and kind != "undo":
        return Right.DEFINE
    return Right.OPERATE


def right_of(run: Run) -> Right:
    return right_to_run(run.kind, read_definition(run.definition))


def must_run(made: Change, run: Run, what: str) -> None:
    made.must(right_of(run), run.labels, what)


def start_run(
    actor: Actor,
    definition: Definition,
    *,
    kind: str,
    cause: str,
    alone: bool = True,
    of: int | None = None,
    waits: bool = False,
    part: Part = ALL,
    version: int | None = None,
    due: datetime | None = None,
    audit: AuditRules | None = None,
) -> Run:
    """Queue a run. version: of the job.   due: the time by which dated places are filled in; now,
    without one.   audit: how closely an audit looks.

    Raises NotAllowed, Conflict if one of the same job is under way (and it must be alone), Invalid
    where its places, filled in, can't be a job's.
    """
    right = right_to_run(kind, definition)
    what = f"starting {definition.job!r}"
    actor.must(right, definition.labels, what)
    as_it_is_run = as_it_runs(definition, due)
    with change(actor) as made:
        made.must(right, definition.labels, what)
        under_way = alive_of(definition.job, kind) if alone else None
        if under_way:
            message = (
                f"{definition.job!r} is being worked on already: run {under_way.pk}. Follow it "
                f"with: pinecart run follow {under_way.pk}"
            )
            raise StateConflict(message, code="run.under-way", run=under_way.pk)
        run = Run.objects.create(
            kind=kind,
            job=definition.job,
            definition=as_it_is_run.as_mapping(),
            priority=PRIORITIES[definition["priority"]],
            version=version,
            labels=list(definition.labels),
            state=RunState.QUEUED.value,
            cause=f"{cause}, only {part.describe()}" if part.describe() else cause,
            queued_at=timezone.now(),
            of=of,
            waits=waits,
            part=part.as_mapping(),
            rate=definition.rate,
            audit=audit.as_mapping() if audit else {},
        )
        tell_state(run)
        made.note(f"{kind}.started", definition.job, run=run.pk)
        return run


def new_audit(given: Mapping[str, Any]) -> AuditRules:
    """As it was asked for; which files are in its sample is drawn now."""
    return read_rules({**given, "seed": secrets.randbits(31)})


@transaction.atomic
def record_skipped(definition: Definition, *, cause: str, why: str, now: datetime) -> None:
    """A run that came due and did not start, with the reason."""
    run = Run.objects.create(
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
    count_run(run)
    tell_state(run)


def stop_run(actor: Actor, number: int, *, at_once: bool = False) -> Run:
    """Ask a run to stop once what is in flight is finished, or at once; one that no process works
    on ends.

    Raises NotFound, NotAllowed, WrongMoment.
    """
    with change(actor) as made:
        run = run_numbered(number, actor)
        made.must(Right.OPERATE, run.labels, f"stopping run {number}")
        advance(RunState(run.state), Event.FINISHED)
        wanted = {"stop_wanted": True} | ({"stop_at_once": True} if at_once else {})
        Run.objects.filter(pk=number).update(**wanted)
        made.note("run.stop", run.job, run=number, at_once=at_once)
        run.refresh_from_db()
        if run.state in [s.value for s in (*CLAIMABLE, RunState.HELD, RunState.PAUSED)]:
            if run.state == RunState.PAUSED.value and has_uploads(run.pk):
                # A process takes its unfinished uploads away.
                return requeue(made, run, Event.RESUME, "run.stopping")
            end(run, Outcome.STOPPED)
        return run


def limit_run(actor: Actor, number: int, rate: int | None) -> Run:
    """So many bytes per second from now on; None: no limit. Raises NotFound, NotAllowed,
    WrongMoment.
    """
    with change(actor) as made:
        run = run_numbered(number, actor)
        made.must(Right.OPERATE, run.labels, f"limiting run {number}")
        advance(RunState(run.state), Event.FINISHED)  # only one that is not over
        Run.objects.filter(pk=number).update(rate=rate)
        made.note(
            "run.limited", run.job, run=number, before={"rate": run.rate}, after={"rate": rate}
        )
        run.refresh_from_db()
        return run


def pause_run(actor: Actor, number: int) -> Run:
    """Ask a run to pause: what is in flight is finished. Raises
    NotFound, NotAllowed, WrongMoment.
    """
    with change(actor) as made:
        run = run_numbered(number, actor)
        made.must(Right.OPERATE, run.labels, f"pausing run {number}")
        state = RunState(run.state)
        if state is RunState.WORKING:
            Run.objects.filter(pk=number).update(pause_wanted=True, code="")
        else:
            Run.objects.filter(pk=number).update(
                state=advance(state, Event.PAUSE).value, message=f"Paused by {actor.name}.", code=""
            )
        made.note("run.pause", run.job, run=number)
        run.refresh_from_db()
        tell_state(run)
        return run


def pause_all(why: str) -> None:
    """Whatever is under way or waits for its turn; no process works on any of it."""
    for run in Run.objects.filter(state__in=UNDER_WAY):
        with transaction.atomic(savepoint=False):
            state = advance(RunState(run.state), Event.PAUSE)
            told = {"state": state.value, "message": why, "code": ""}
            Run.objects.filter(pk=run.pk).update(**told)
            run.refresh_from_db()
            tell_state(run)


def resume_run(actor: Actor, number: int) -> Run:
    """A paused run goes on; both sides are listed anew.

    Raises NotFound, NotAllowed, WrongMoment.
    """
    with change(actor) as made:
        run = run_numbered(number, actor)
        must_run(made, run, f"resuming run {number}")
        return requeue(made, run, Event.RESUME, "run.resume")


def requeue(made: Change, run: Run, event: Event, action: str, **facts: Any) -> Run:
    """It waits for its turn again; what held it is forgotten."""
    state = advance(RunState(run.state), event)
    fresh = {"pause_wanted": False, "holds": [], "held_at": None, "message": "", "code": ""}
    Run.objects.filter(pk=run.pk).update(state=state.value, **fresh)
    made.note(action, run.job, run=run.pk, **facts)
    run.refresh_from_db()
    tell_state(run)
    return run


def was_saved(actor: Actor, run: RunFacts, what: str) -> None:
    """Somebody took a run's report, proof or log away: the trail tells it."""
    note(actor, f"{what}.saved", run.job, run=run.pk)


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
    part = read_part(run.part, len(definition.legs))
    cause = f"retry of run {number} by {actor.name}"
    alone = run.job != CARRY
    return start_run(
        actor,
        definition,
        kind=run.kind,
        cause=cause,
        alone=alone,
        of=run.of,
        part=part,
        version=run.version,
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


def fail_unstarted(run: RunFacts, message: str) -> None:
    """A run that was claimed, and no process could be given it."""
    with transaction.atomic():
        working = Run.objects.filter(state=RunState.WORKING.value)
        claimed = working.filter(pk=run.pk, epoch=run.epoch)
        if claimed.update(message=message):
            end(run_of(run.pk), Outcome.FAILED)


def interrupt(run: Run) -> None:
    """Its process is gone. It goes on by itself when it is claimed again."""
    with transaction.atomic():
        state = advance(RunState.WORKING, Event.PROCESS_DIED)
        changed = Run.objects.filter(
            pk=run.pk, epoch=run.epoch, state=RunState.WORKING.value
        ).update(state=state.value)
        if changed:
            run.refresh_from_db()
            tell_state(run)
            if run.stop_wanted:
                end(run, Outcome.STOPPED)


@transaction.atomic
def end_run(number: int, epoch: int, ending: Ending) -> None:
    """Write down how it went. Raises Superseded."""
    hold_epoch(number, epoch)
    run = Run.objects.get(pk=number)
    run.counted = [list(c) for c in ending.counted]
    run.far_side = ending.far_side
    if ending.error is not None:
        run.message = ending.error.message
        run.code = ending.error.code
    run.holds = [h._asdict() for h in ending.held]
    run.course = _went_on(run.course, ending)
    run.effort = {
        "phases": _sum(run.effort.get("phases", {}), ending.effort.phases),
        "requests": _sum(run.effort.get("requests", {}), ending.effort.requests),
    }
    run.inventory = ending.inventory
    told = ["counted", "far_side", "message", "code", "holds", "course", "effort", "inventory"]
    run.save(update_fields=told)
    if _waits(run, ending):
        return
    if run.kind in ("preview", "audit") and not run.message and (beside := run_beside(run)):
        run.message = (
            f"Run {beside.pk} of this job was under way meanwhile: what it had not finished is "
            "told here as well. To come after it: --wait."
        )
        run.save(update_fields=["message"])
    end(run, _outcome(run, ending))


def _went_on(before: list[Any], ending: Ending) -> list[Any]:
    """The course of a run that was taken up again goes on where it had been."""
    since_s = before[-1][0] if before else 0.0
    course = list(before)
    for point in ending.course:
        at_s = point.seconds + since_s
        course.append([at_s, point.bytes, point.objects])
    return course[-MOST_COURSE:]


def _sum(before: Mapping[str, float], now: Mapping[str, float]) -> dict[str, float]:
    """A run that was taken up again took what it had taken, too."""
    return {name: round(before.get(name, 0) + now.get(name, 0), 2) for name in {**before, **now}}


def _outcome(run: Run, ending: Ending) -> Outcome:
    told = run_told(run)
    differs = bool(run.far_side and run.far_side["differences"])
    later = (Reason.TOO_YOUNG, Reason.AWAITED)
    outcome = outcome_of(
        told["totals"],
        problems=told["problems"] + told["findings"] + differs,
        stopped=ending.stopped,
        failed=ending.error is not None,
        folders=sum(told["folders"].values()),
        later=sum(told["reasons"].get(f"leave {reason}", 0) for reason in later),
    )
    found_nothing = run.kind in ("audit", "inventory") and outcome is Outcome.NOTHING_TO_DO
    if found_nothing:
        return Outcome.CLEAN
    return outcome


def _waits(run: Run, ending: Ending) -> bool:
    """Whether a run that came to its end is not over: held by a guard or a refused
    key, or paused.
    """
    if run.kind in LOOKING or run.stop_wanted:
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
    run.state = advance(RunState(run.state), event).value
    run.held_at = timezone.now()
    run.save(update_fields=["state", "held_at", "message"])
    tell_state(run)
    return True


def start_due_clearing(now: datetime) -> None:
    """One run for each run whose set-aside has had its days, or that left uploads unfinished."""
    ended = [RunState.ENDED.value]
    tomorrow = now + timedelta(days=1)
    for number in runs_with_asides_due(now, ended, CLEARED_AT_ONCE):
        if _start_clearing(number, "set aside"):
            try_asides_again(number, tomorrow)
    for number in runs_with_uploads_due(now, ended, now - UPLOADS_AFTER, CLEARED_AT_ONCE):
        if _start_clearing(number, "left unfinished at a store"):
            try_uploads_again(number, tomorrow)


def _start_clearing(number: int, what: str) -> bool:
    """False: one is under way."""
    if Run.objects.filter(kind="expiry", of=number, ended_at__isnull=True).exists():
        return False
    definition = read_definition(run_of(number).definition)
    cause = f"clears away what run {number} {what}"
    start_run(SYSTEM, definition, kind="expiry", cause=cause, alone=False, of=number)
    return True


def end(run: Run, outcome: Outcome) -> None:
    """It is counted once, and what was told of its progress is no longer wanted. Raises where a run
    can't end from that state.
    """
    state = advance(RunState(run.state), Event.FINISHED)
    run.state = state.value
    run.outcome = outcome.value
    run.ended_at = timezone.now()
    run.save(update_fields=["state", "outcome", "ended_at"])
    count_run(run)
    RunEvent.objects.filter(run=run, kind="progress").delete()
    tell_state(run)


def tell_state(run: Run) -> None:
    RunEvent.objects.create(
        run=run, kind="state", payload={"state": run.state, "outcome": run.outcome}
    )
