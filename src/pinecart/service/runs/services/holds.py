"""Runs that wait for a person: the yes, the no, and the end of waiting."""

from __future__ import annotations

from datetime import datetime, timedelta

from django.db import transaction

from pinecart.core.lifecycle import Event, Outcome, RunState, advance
from pinecart.core.places import parse_location, shown_lines
from pinecart.service.config.refusals import StateConflict
from pinecart.service.config.rights import Actor, Right
from pinecart.service.runs.models import Run
from pinecart.service.runs.presentation import held_digest
from pinecart.service.runs.selectors import run_numbered
from pinecart.service.runs.services.life_cycle import end, must_run, requeue, right_of
from pinecart.service.stores.selectors import store_named
from pinecart.service.trail.services import change

HELD_DAYS = 7


def release_run(actor: Actor, number: int, *, digest: str, why: str) -> Run:
    """Say yes to the list with this digest.

    Raises NotFound, NotAllowed, WrongMoment, Conflict if it is another list by now.
    """
    with change(actor) as made:
        run = run_numbered(number, actor)
        must_run(made, run, f"releasing run {number}")
        advance(RunState(run.state), Event.RELEASED)
        if digest != held_digest(run):
            message = (
                f"Run {number} waits with another list than the one you saw ({digest}). Look "
                f"again: pinecart run show {number}"
            )
            raise StateConflict(message, code="run.other-list")
        digests = {hold["digest"] for hold in run.holds}
        run.released = sorted({*run.released, *digests})
        run.save(update_fields=["released"])
        facts = {"why": shown_lines(why), "digest": digest}
        return requeue(made, run, Event.RELEASED, "run.released", **facts)


def decline_run(actor: Actor, number: int, *, why: str) -> Run:
    """Say no: what is held is not done, and the run ends. Raises
    NotFound, NotAllowed, WrongMoment.
    """
    with change(actor) as made:
        run = run_numbered(number, actor)
        made.must(Right.OPERATE, run.labels, f"declining run {number}")
        advance(RunState(run.state), Event.RELEASED)
        why = shown_lines(why)
        made.note("run.declined", run.job, run=number, why=why)
        return end_held(run, f"Cancelled by {actor.name}{': ' + why if why else '.'}")


def end_held(run: Run, message: str) -> Run:
    """End a run that waits; what it carried out before stays. In the caller's transaction."""
    run.message = message
    run.save(update_fields=["message"])
    end(run, Outcome.STOPPED)
    return run


def release_refused(actor: Actor, store: str) -> list[Run]:
    """One yes for every run that waits since a store refused its key: for after the key was put
    right. Those the actor may operate; gives them. Raises UnknownName, RightMissing.
    """
    store_named(store, actor)
    held = Run.objects.filter(state=RunState.HELD.value)
    waiting = [run for run in held if not run.holds and store in _stores_of(run)]
    mine = [run for run in waiting if actor.may(right_of(run), run.labels)]
    what = f"letting the runs of {store!r} go on"
    if waiting and not mine:
        first = waiting[0]
        actor.must(right_of(first), first.labels, what)
    why = f"{store} was put right"
    return [_go_on(actor, run, what, why=why) for run in mine]


def _go_on(actor: Actor, run: Run, what: str, why: str) -> Run:
    with change(actor) as made:
        must_run(made, run, what)
        return requeue(made, run, Event.RELEASED, "run.released", why=why)


def _stores_of(run: Run) -> set[str]:
    return {
        parse_location(leg[side]).store for leg in run.definition["legs"] for side in ("from", "to")
    }


def end_overdue_holds(now: datetime) -> None:
    """A hold ends by itself after seven days."""
    since = now - timedelta(days=HELD_DAYS)
    overdue = Run.objects.filter(state=RunState.HELD.value, held_at__lt=since)
    for run in overdue:
        with transaction.atomic():
            end_held(run, f"Nobody said yes within {HELD_DAYS} days. {run.message}")
