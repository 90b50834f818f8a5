"""What a run writes while it works: records with their sums, the ledger, journals of what is set
aside and of uploads.
"""

from __future__ import annotations

import time
from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping
from datetime import timedelta

from django.db import transaction
from django.db.models import Max
from django.utils import timezone

from pinecart.core.definition import days_kept
from pinecart.core.entries import Aside, Row
from pinecart.core.options import KEPT_DAYS
from pinecart.core.places import parse_location
from pinecart.core.totals import CARRIES, GROUPED_BY, Group, Sums
from pinecart.json_object import JsonObject
from pinecart.runner.records import Record
from pinecart.service.aside import services as aside
from pinecart.service.config.refusals import StateConflict
from pinecart.service.config.upserts import upsert
from pinecart.service.ledger import services as ledger
from pinecart.service.runs.models import RecordRow, Run, RunEvent
from pinecart.service.runs.selectors import ALIVE_STATES, run_of
from pinecart.service.runs.services.epochs import hold_epoch

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
    "seen",
)


SIDES = (("source", "from"), ("target", "to"))


def forget_undone(run: int, epoch: int) -> None:
    """What a run that is taken up again had only planned, or failed at, is planned anew.

    Some at a time. Raises Superseded.
    """
    while _some_undone_forgotten(run, epoch):
        time.sleep(AWHILE_S)


@transaction.atomic
def _some_undone_forgotten(run: int, epoch: int) -> int:
    """How many."""
    hold_epoch(run, epoch)
    undone = RecordRow.objects.filter(run=run, done=False)
    rows = undone.values_list("pk", "size", *GROUPED_BY)
    numbers = []
    gone = []
    for pk, size, *group in rows[:DELETE_AT_ONCE]:
        numbers.append(pk)
        gone.append((Group(*group), size))
    RecordRow.objects.filter(pk__in=numbers).delete()
    _change_sums(run, gone=gone, come=[])
    return len(numbers)


@transaction.atomic
def save_batch(
    run: int, epoch: int, scopes: dict[int, int], batch: list[Record], *, remember: bool
) -> None:
    """Records, and what the ledger shall remember, in one transaction.

    scopes: leg → scope. Raises Superseded.
    """
    hold_epoch(run, epoch)
    rows = {(r.leg, r.key): r for r in batch if not (r.reason == "same" and not r.error)}
    known = _write_new(run, rows)
    gone = []
    come = []
    for at, (pk, group, size) in known.items():
        record = rows[at]
        gone.append((group, size))
        if record.decision == "clear" and group.done and group.decision in CARRIES:
            come.append((_cleared_too(pk, rows.pop(at), group), size))
        else:
            # That it was cleared stays so, whatever else is told of it.
            come.append((_group_of(record)._replace(cleared=group.cleared), record.size))
    _write(run, [rows[at] for at in known if at in rows], update=(*TOLD, "folder"))
    come += [(_group_of(record), record.size) for at, record in rows.items() if at not in known]
    _change_sums(run, gone, come, {r.error: r.message for r in rows.values() if r.error})
    if remember:
        ledger.write_rows([(scopes[r.leg], r.row) for r in batch if r.row is not None])
    for record in batch:
        if record.done and record.kept:
            aside.is_set_aside(run, record.leg, record.key, record.kept)


def _write_new(
    run: int, rows: Mapping[tuple[int, bytes], Record]
) -> dict[tuple[int, bytes], tuple[int, Group, int]]:
    """Those that have no record yet: mostly that is all of them, so nothing is looked up before.
    Gives what `_known` tells of the others.
    """
    last = RecordRow.objects.aggregate(last=Max("pk"))["last"] or 0
    if _write(run, rows.values(), update=()) == len(rows):
        return {}
    return _known(run, rows, last)


def _write(run: int, records: Collection[Record], *, update: tuple[str, ...]) -> int:
    """How many. update: what is written over where there is a record already."""
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
            r.seen,
        )
        for r in records
    ]
    fields = ("run", "cleared", "folder", "leg", "key", *TOLD)
    return upsert(RecordRow, fields, told, unique=("run", "leg", "key"), update=update)


def _known(
    run: int, keys: Collection[tuple[int, bytes]], last: int
) -> dict[tuple[int, bytes], tuple[int, Group, int]]:
    """Of these (leg, key) those whose record is no younger than `last`: its id, group and size."""
    by_leg = defaultdict(list)
    for leg, key in keys:
        by_leg[leg].append(key)
    found = {}
    for leg, names in by_leg.items():
        for i in range(0, len(names), 500):
            some = names[i : i + 500]
            records = RecordRow.objects.filter(run_id=run, leg=leg, key__in=some, pk__lte=last)
            rows = records.values_list("pk", "key", "size", *GROUPED_BY)
            for pk, key, size, *fields in rows:
                group = Group(*fields)
                found[leg, bytes(key)] = (pk, group, size)
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
    hold_epoch(run, epoch)
    definition = run_of(run).definition
    until = timezone.now() + timedelta(days=days_kept(definition) or KEPT_DAYS)
    stores = {
        (number, side): parse_location(leg[word]).store
        for number, leg in enumerate(definition["legs"])
        for side, word in SIDES
    }
    aside.journal_asides(run, asides, stores, until)
    ledger.write_rows([(scopes[leg], row) for leg, row in rows])


@transaction.atomic
def upload_begun(run: int, epoch: int, store: str, key: bytes, token: str, at: str) -> str:
    """Commit that an upload in parts starts; the id of one begun before for the same token, or
    empty.
    """
    hold_epoch(run, epoch)
    return aside.upload_begun(run, store, key, token, at)


@transaction.atomic
def upload_named(run: int, epoch: int, store: str, key: bytes, upload: str) -> None:
    hold_epoch(run, epoch)
    aside.upload_named(run, store, key, upload)


@transaction.atomic
def upload_over(run: int, epoch: int, store: str, key: bytes) -> None:
    """It is an object now, or given up; see `aside`."""
    hold_epoch(run, epoch)
    aside.upload_over(run, store, key)


@transaction.atomic
def upload_cleared(run: int, epoch: int, of: int, store: str, key: bytes) -> None:
    """Nothing is left of what run `of` had begun."""
    hold_epoch(run, epoch)
    aside.upload_cleared(of, store, key)


@transaction.atomic
def no_longer_aside(run: int, epoch: int, of: int, asides: list[Aside], *, back: bool) -> None:
    """What run `of` had set aside was brought back, or is gone for good now."""
    hold_epoch(run, epoch)
    aside.no_longer_aside(of, asides, back=back)


@transaction.atomic
def settle_scope(run: int, epoch: int, scope: int, digest: str) -> None:
    """This selection has been carried out to its end once."""
    hold_epoch(run, epoch)
    ledger.settle(scope, digest)


@transaction.atomic
def drop_ledger_rows(run: int, epoch: int, scope: int, keys: list[bytes]) -> None:
    hold_epoch(run, epoch)
    ledger.drop_rows(scope, keys)


def forget_job(job: str) -> None:
    """Whoever defines a job of this name later begins without what this one remembered. In the
    caller's transaction.

    Raises StateConflict while a run of it is under way.
    """
    under_way = Run.objects.filter(job=job, state__in=ALIVE_STATES).first()
    if under_way:
        message = (
            f"Run {under_way.pk} of {job!r} is not over yet. Stop it first, or answer it: "
            f"pinecart run show {under_way.pk}"
        )
        raise StateConflict(message, code="run.under-way")
    ledger.set_apart(job)


@transaction.atomic
def tell_progress(run: int, epoch: int, progress: JsonObject) -> None:
    """Only the newest tells anything: those before are deleted."""
    hold_epoch(run, epoch)
    now = timezone.now()
    Run.objects.filter(pk=run).update(progress=progress, told_at=now)
    event = RunEvent.objects.create(run_id=run, kind="progress", payload=progress)
    told = RunEvent.objects.filter(run_id=run, kind="progress")
    older = told.filter(pk__lt=event.pk)
    older.delete()
