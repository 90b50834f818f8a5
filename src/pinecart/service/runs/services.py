from __future__ import annotations

import secrets
import time
from collections.abc import Callable, Collection, Iterable, Mapping
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any

from django.db import transaction
from django.db.models import F, Q
from django.utils import timezone

from pinecart.core.decide import Intent, Reason
from pinecart.core.definition import CARRY, KEPT_DAYS, Definition, days_kept, read_definition
from pinecart.core.entries import Aside, Row
from pinecart.core.errors import SignInRefused
from pinecart.core.lifecycle import CLAIMABLE, Event, Outcome, RunState, advance
from pinecart.core.places import Location, parse_location, shown_lines
from pinecart.core.totals import GROUPED_BY, Group, Sums, outcome_of, size_text
from pinecart.runner.records import Record
from pinecart.runner.run import Ending
from pinecart.service.config.refusals import StateConflict
from pinecart.service.config.rights import SYSTEM, Actor, Right
from pinecart.service.config.upserts import upsert
from pinecart.service.runs.models import (
    STORED,
    AsideRow,
    Instance,
    LedgerRow,
    RecordRow,
    Run,
    RunEvent,
    Scope,
    UploadRow,
)
from pinecart.service.runs.selectors import (
    ALIVE_STATES,
    alive_of,
    dropped_name,
    held_digest,
    run_beside,
    run_numbered,
    run_of,
    run_told,
    transfer_under_way,
)
from pinecart.service.stores.selectors import Place, place_of, store_named
from pinecart.service.trail.services import note

HELD_DAYS = 7
DISK_LOW, LOW_DISK = "disk.low", "Waits for disk"
UPLOADS_AFTER = timedelta(
    minutes=10
)  # after a run's end the clock looks after what it left unfinished
DELETE_AT_ONCE, AWHILE_S = 1000, 0.02  # rows of one transaction, and the pause after it
TOLD = (
    "decision",
    "reason",
    "size",
    "done",
    "seconds",
    "crc",
    "proof",
    "guarded",
    "tries",
    "error",
    "message",
)
SIDES = (("source", "from"), ("target", "to"))


class Superseded(Exception):
    """Another process has taken this run up: this one must end."""


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


def forget_undone(run: int, epoch: int) -> None:
    """What a run that is taken up again had only planned, or failed at, is planned anew.

    Some at a time. Raises Superseded.
    """
    while _some_undone_forgotten(run, epoch):
        time.sleep(AWHILE_S)


@transaction.atomic
def _some_undone_forgotten(run: int, epoch: int) -> int:
    _hold_epoch(run, epoch)
    rows = list(
        RecordRow.objects.filter(run=run, done=False).values_list("pk", "size", *GROUPED_BY)[
            :DELETE_AT_ONCE
        ]
    )
    RecordRow.objects.filter(pk__in=[pk for pk, *_ in rows]).delete()
    _change_sums(run, gone=[(Group(*group), size) for _, size, *group in rows], come=[])
    return len(rows)


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
def save_batch(
    run: int, epoch: int, scopes: dict[int, int], batch: list[Record], *, remember: bool
) -> None:
    """Records, and what the ledger shall remember, in one transaction.

    scopes: leg → scope. Raises Superseded.
    """
    _hold_epoch(run, epoch)
    rows = {(r.leg, r.key): r for r in batch if not (r.reason == "same" and not r.error)}
    known = _known(run, rows)
    gone, come = [], []
    for at, (pk, group, size) in known.items():
        gone.append((group, size))
        if rows[at].decision == "clear" and group.done and group.decision in ("copy", "replace"):
            come.append((_cleared_too(pk, rows.pop(at), group), size))
    for at, record in rows.items():
        cleared = (
            at in known and known[at][1].cleared
        )  # which stays so, whatever else is told of it
        come.append((_group_of(record)._replace(cleared=cleared), record.size))
    _change_sums(run, gone, come, {r.error: r.message for r in rows.values() if r.error})
    told = [
        (
            run,
            0,
            +r.is_folder,
            r.leg,
            bytearray(r.key),
            r.decision,
            r.reason,
            r.size,
            +r.done,
            r.seconds,
            r.crc,
            r.proof,
            +r.guarded,
            r.tries,
            r.error,
            r.message,
        )
        for r in rows.values()
    ]
    upsert(
        RecordRow,
        ("run", "cleared", "folder", "leg", "key", *TOLD),
        told,
        unique=("run", "leg", "key"),
        update=(*TOLD, "folder"),
    )
    if remember:
        write_ledger([(scopes[r.leg], r.row) for r in batch if r.row is not None])
    for record in batch:
        if record.done and record.kept:
            aside = AsideRow.objects.filter(
                run_id=run, leg=record.leg, key=record.key, state="meant"
            )
            aside.update(state="kept", kept=record.kept)


def write_ledger(rows: list[tuple[int, Row]]) -> None:
    """(scope, row): the ledger has these from now on."""
    told = [(scope, bytearray(key), *rest) for scope, row in rows for key, *rest in (row.stored(),)]
    upsert(LedgerRow, ("scope", *STORED), told, unique=("scope", "key"), update=STORED[1:])


def _known(
    run: int, keys: Collection[tuple[int, bytes]]
) -> dict[tuple[int, bytes], tuple[int, Group, int]]:
    """Of these (leg, key) those that have a record already: its id, group and size."""
    found = {}
    for leg in {leg for leg, _ in keys}:
        names = [key for number, key in keys if number == leg]
        for i in range(0, len(names), 500):
            rows = RecordRow.objects.filter(run_id=run, leg=leg, key__in=names[i : i + 500])
            for pk, key, size, *group in rows.values_list("pk", "key", "size", *GROUPED_BY):
                found[leg, bytes(key)] = (pk, Group(*group), size)
    return found


def _cleared_too(pk: int, clear: Record, group: Group) -> Group:
    """An object that this run copied keeps its one record, which says whether it was then cleared
    at the source.
    """
    cleared = clear.done and not clear.error
    RecordRow.objects.filter(pk=pk).update(
        cleared=cleared, error=clear.error, message=clear.message
    )
    return group._replace(cleared=cleared, error=clear.error)


def _group_of(r: Record) -> Group:
    return Group(r.decision, r.reason, r.done, r.error, r.proof, False, r.is_folder)


def _change_sums(
    run: int,
    gone: Iterable[tuple[Group, int]],
    come: Iterable[tuple[Group, int]],
    examples: Mapping[str, str] = {},
) -> None:
    """Keep a run's sums with its records, in the caller's transaction.

    (group, bytes): of records that go, and that come.
    """
    sums = Sums.read(Run.objects.values_list("summed", flat=True).get(pk=run))
    if sums.change(gone, come, examples):
        Run.objects.filter(pk=run).update(summed=sums.plain())


@transaction.atomic
def journal(
    run: int, epoch: int, scopes: dict[int, int], asides: list[Aside], rows: list[tuple[int, Row]]
) -> None:
    """Commit what is about to be set aside, and what the ledger shall remember, before anything is
    destroyed.
    """
    _hold_epoch(run, epoch)
    definition = run_of(run).definition
    until = timezone.now() + timedelta(days=days_kept(definition) or KEPT_DAYS)
    stores = {
        (n, s): parse_location(leg[w]).store
        for n, leg in enumerate(definition["legs"])
        for s, w in SIDES
    }
    AsideRow.objects.bulk_create(
        [
            AsideRow(run_id=run, until=until, store=stores[a.leg, a.side], **a._asdict())
            for a in asides
        ],
        update_conflicts=True,
        unique_fields=["run", "leg", "side", "key"],
        update_fields=["at", "size", "was", "version"],
    )
    write_ledger([(scopes[leg], row) for leg, row in rows])


@transaction.atomic
def upload_begun(run: int, epoch: int, store: str, key: bytes, token: str, at: str) -> str:
    """Commit that an upload in parts starts; the id of one begun before for the same token, or
    empty.
    """
    _hold_epoch(run, epoch)
    known = UploadRow.objects.filter(run_id=run, store=store, key=key).first()
    if known is not None and known.token == token and known.upload:
        return known.upload
    first = known.at if known else at  # whatever was begun for this key since then is ours
    again = {"token": token, "at": first, "upload": "", "again": known is not None}
    UploadRow.objects.update_or_create(run_id=run, store=store, key=key, defaults=again)
    return ""


@transaction.atomic
def upload_named(run: int, epoch: int, key: bytes, upload: str) -> None:
    _hold_epoch(run, epoch)
    UploadRow.objects.filter(run_id=run, key=key).update(upload=upload)


@transaction.atomic
def upload_over(run: int, epoch: int, key: bytes, *, cleared: bool, of: int | None = None) -> None:
    """It is an object now, or given up. What was begun more than once stays journalled until the
    store was `cleared` of it.

    of: the run that began it, where this one clears up after it.
    """
    _hold_epoch(run, epoch)
    rows = UploadRow.objects.filter(run_id=of or run, key=key)
    (rows if cleared else rows.filter(again=False)).delete()
    rows.update(upload="")


@transaction.atomic
def no_longer_aside(run: int, epoch: int, of: int, asides: list[Aside], *, back: bool) -> None:
    """What run `of` had set aside was brought back, or is gone for good now."""
    _hold_epoch(run, epoch)
    for aside in asides:
        found = AsideRow.objects.filter(run_id=of, leg=aside.leg, side=aside.side, key=aside.key)
        found.update(state="back" if back else "gone")


@transaction.atomic
def settle_scope(run: int, epoch: int, scope: int, digest: str) -> None:
    """This selection has been carried out to its end once."""
    _hold_epoch(run, epoch)
    Scope.objects.filter(pk=scope).update(settled=digest)


def forget_job(job: str) -> None:
    """Whoever defines a job of this name later begins without what this one remembered. In the
    caller's transaction.

    Raises Conflict while a run of it is under way.
    """
    if under_way := Run.objects.filter(job=job, state__in=ALIVE_STATES).first():
        message = (
            f"Run {under_way.pk} of {job!r} is not over yet. Stop it first, or answer it: "
            f"pinecart run show {under_way.pk}"
        )
        raise StateConflict(message, code="run.under-way")
    for scope in Scope.objects.filter(job=job):
        scope.job, scope.dropped_at = dropped_name(job) + str(scope.pk), timezone.now()
        scope.save(update_fields=["job", "dropped_at"])


def clear_forgotten(now: datetime) -> None:
    """Some of what dropped jobs remembered, once none of their runs can be undone any more."""
    old = Scope.objects.filter(dropped_at__lt=now - timedelta(days=KEPT_DAYS)).first()
    if old is None:
        return
    keys = list(LedgerRow.objects.filter(scope=old).values_list("key", flat=True)[:DELETE_AT_ONCE])
    for i in range(0, len(keys), 500):
        LedgerRow.objects.filter(scope=old, key__in=keys[i : i + 500]).delete()
    if not keys:
        old.delete()


@transaction.atomic
def drop_ledger_rows(run: int, epoch: int, scope: int, keys: list[bytes]) -> None:
    _hold_epoch(run, epoch)
    for i in range(0, len(keys), 500):
        LedgerRow.objects.filter(scope_id=scope, key__in=keys[i : i + 500]).delete()


@transaction.atomic
def tell_progress(run: int, epoch: int, progress: dict[str, Any]) -> None:
    _hold_epoch(run, epoch)
    Run.objects.filter(pk=run).update(progress=progress, told_at=timezone.now())
    event = RunEvent.objects.create(run_id=run, kind="progress", payload=progress)
    RunEvent.objects.filter(
        run_id=run, kind="progress", pk__lt=event.pk
    ).delete()  # only the newest tells anything


@transaction.atomic
def end_run(number: int, epoch: int, ending: Ending) -> None:
    """Write down how it went. Raises Superseded."""
    _hold_epoch(number, epoch)
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


def _hold_epoch(run: int, epoch: int) -> None:
    if not Run.objects.filter(pk=run, epoch=epoch, state=RunState.WORKING.value).update(
        epoch=epoch
    ):
        raise Superseded(f"Run {run} has been taken up by another process (epoch {epoch} is over).")


def bound_to() -> tuple[str, bytes]:
    """The state folder's id as the database knows it (empty: not yet), and what only the folder's
    key opens.
    """
    found = Instance.objects.get(pk=1)
    return found.folder, bytes(found.sealed)


def bind(folder: str, sealed: bytes) -> None:
    Instance.objects.filter(pk=1).update(folder=folder, sealed=sealed)


def prepare_database() -> None:
    """Give the database its epoch, once."""
    Instance.objects.get_or_create(pk=1, defaults={"epoch": secrets.token_hex(4)})
