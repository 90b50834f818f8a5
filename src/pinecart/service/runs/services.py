from __future__ import annotations

import secrets
from datetime import datetime
from typing import Any

from django.db import transaction
from django.db.models import F
from django.utils import timezone

from pinecart.core.definition import Definition
from pinecart.core.errors import PinecartError
from pinecart.core.lifecycle import CLAIMABLE, Event, Outcome, State, advance
from pinecart.core.places import lies_in, parse_location
from pinecart.core.totals import outcome_of
from pinecart.runner.records import Record
from pinecart.runner.run import Ending
from pinecart.service.config.refusals import Conflict
from pinecart.service.config.rights import Actor, Right
from pinecart.service.runs.models import Instance, LedgerRow, RecordRow, Run, RunEvent
from pinecart.service.runs.selectors import alive_of, run_numbered, run_told
from pinecart.service.trail.services import note


class Superseded(PinecartError):
    """Another process has taken this run up: this one must end."""

    code = "run.superseded"


@transaction.atomic
def start_run(actor: Actor, definition: Definition, *, kind: str, cause: str, alone: bool = True) -> Run:
    """Queue a run. Raises NotAllowed, Conflict if one of the same job is under way (and it must be alone)."""
    actor.must(Right.OPERATE, definition.labels, f"starting {definition.job!r}")
    under_way = alive_of(definition.job, kind) if alone else None
    if under_way:
        message = f"{definition.job!r} is being worked on already: run {under_way.pk}. Follow it with: pinecart run follow {under_way.pk}"
        raise Conflict(message, code="run.under-way")
    run = Run.objects.create(
        kind=kind, job=definition.job, definition=definition.as_mapping(), labels=list(definition.labels),
        state=State.QUEUED.value, cause=cause, queued_at=timezone.now(),
    )  # fmt: skip
    _tell_state(run)
    note(actor, f"{kind}.started", definition.job, run=run.pk)
    return run


@transaction.atomic
def record_skipped(definition: Definition, *, cause: str, why: str, now: datetime) -> None:
    """A run that came due and did not start, with the reason."""
    Run.objects.create(
        kind="transfer", job=definition.job, definition=definition.as_mapping(), labels=list(definition.labels),
        state=State.ENDED.value, outcome=Outcome.SKIPPED.value, cause=cause, queued_at=now, ended_at=now, message=why,
    )  # fmt: skip


@transaction.atomic
def stop_run(actor: Actor, number: int) -> Run:
    """Ask a run to stop cleanly; one that no process works on ends at once. Raises NotFound, NotAllowed, WrongMoment."""
    run = run_numbered(number, actor)
    actor.must(Right.OPERATE, run.labels, f"stopping run {number}")
    advance(State(run.state), Event.FINISHED)
    Run.objects.filter(pk=number).update(stop_wanted=True)
    note(actor, "run.stop", run.job, run=number)
    run.refresh_from_db()
    if run.state in [s.value for s in CLAIMABLE]:
        _end(run, Outcome.STOPPED)
    return run


@transaction.atomic
def claim_next(*, now: datetime, limit: int) -> Run | None:
    """The oldest run that may start, under a new epoch. None: nothing may start now."""
    working = list(Run.objects.filter(state=State.WORKING.value))
    if len(working) >= limit:
        return None
    for run in Run.objects.filter(state__in=[s.value for s in CLAIMABLE]).order_by("id"):
        other = next((w for w in working if _overlap(run, w)), None)
        if other is None:
            state = advance(State(run.state), Event.CLAIMED)
            Run.objects.filter(pk=run.pk).update(
                state=state.value, epoch=F("epoch") + 1, started_at=run.started_at or now, message="", told_at=now
            )
            run.refresh_from_db()
            _tell_state(run)
            return run
        waits = f"Waits for run {other.pk} of {other.job}, which writes to the same place."
        if run.message != waits:
            Run.objects.filter(pk=run.pk).update(message=waits)
    return None


def _overlap(a: Run, b: Run) -> bool:
    """Whether two runs write where the other writes. Previews and audits write nowhere."""
    if a.kind != "transfer" or b.kind != "transfer":
        return False
    places = [[parse_location(leg["to"]) for leg in run.definition["legs"]] for run in (a, b)]
    return any(
        x.store == y.store and (lies_in(x.path, y.path) or lies_in(y.path, x.path))
        for x in places[0]
        for y in places[1]
    )


def interrupt(run: Run) -> None:
    """Its process is gone. It goes on by itself when it is claimed again."""
    with transaction.atomic():
        state = advance(State.WORKING, Event.PROCESS_DIED)
        changed = Run.objects.filter(pk=run.pk, epoch=run.epoch, state=State.WORKING.value).update(state=state.value)
        if changed:
            run.refresh_from_db()
            _tell_state(run)
            if run.stop_wanted:
                _end(run, Outcome.STOPPED)


@transaction.atomic
def save_batch(run: int, epoch: int, scopes: dict[int, int], batch: list[Record], *, remember: bool) -> None:
    """Records, and what the ledger shall remember, in one transaction. scopes: leg → scope. Raises Superseded."""
    _hold_epoch(run, epoch)
    fields = [
        "decision", "reason", "size", "done", "seconds", "crc", "proof", "guarded", "tries", "error", "message",
    ]  # fmt: skip
    rows = {(r.leg, r.key): r for r in batch if not (r.reason == "same" and not r.error)}
    RecordRow.objects.bulk_create(
        [RecordRow(run_id=run, **{f: getattr(r, f) for f in (*fields, "leg", "key")}) for r in rows.values()],
        update_conflicts=True, unique_fields=["run", "leg", "key"], update_fields=fields,
    )  # fmt: skip
    ledger = {(r.leg, r.key): r.row for r in batch if r.row is not None}
    if remember and ledger:
        LedgerRow.objects.bulk_create(
            [LedgerRow(scope_id=scopes[leg], **row._asdict()) for (leg, _), row in ledger.items()],
            update_conflicts=True, unique_fields=["scope", "key"],
            update_fields=["source", "there", "crc", "racy", "cleared", "run"],
        )  # fmt: skip


@transaction.atomic
def drop_ledger_rows(run: int, epoch: int, scope: int, keys: list[bytes]) -> None:
    _hold_epoch(run, epoch)
    for i in range(0, len(keys), 500):
        LedgerRow.objects.filter(scope_id=scope, key__in=keys[i : i + 500]).delete()


@transaction.atomic
def tell_progress(run: int, epoch: int, progress: dict[str, Any]) -> None:
    _hold_epoch(run, epoch)
    Run.objects.filter(pk=run).update(progress=progress, told_at=timezone.now())
    RunEvent.objects.create(run_id=run, kind="progress", payload=progress)


@transaction.atomic
def end_run(number: int, epoch: int, ending: Ending) -> None:
    """Write down how it went. Raises Superseded."""
    _hold_epoch(number, epoch)
    run = Run.objects.get(pk=number)
    run.counted, run.far_side = [list(c) for c in ending.counted], ending.far_side
    if ending.error is not None:
        run.message, run.code = ending.error.message, ending.error.code
    run.save(update_fields=["counted", "far_side", "message", "code"])
    told = run_told(run)
    differs = bool(run.far_side and run.far_side["differences"])
    problems = told["problems"] + told["findings"] + differs
    _end(run, outcome_of(told["totals"], problems=problems, stopped=ending.stopped, failed=ending.error is not None))


def _end(run: Run, outcome: Outcome) -> None:
    run.state, run.outcome, run.ended_at = (
        advance(State(run.state), Event.FINISHED).value,
        outcome.value,
        timezone.now(),
    )
    run.save(update_fields=["state", "outcome", "ended_at"])
    RunEvent.objects.filter(run=run, kind="progress").delete()
    _tell_state(run)


def _tell_state(run: Run) -> None:
    RunEvent.objects.create(run=run, kind="state", payload={"state": run.state, "outcome": run.outcome})


def _hold_epoch(run: int, epoch: int) -> None:
    if not Run.objects.filter(pk=run, epoch=epoch, state=State.WORKING.value).update(epoch=epoch):
        raise Superseded(f"Run {run} has been taken up by another process (epoch {epoch} is over).")


def prepare_database() -> None:
    """Give the database its epoch, once."""
    Instance.objects.get_or_create(pk=1, defaults={"epoch": secrets.token_hex(4)})
