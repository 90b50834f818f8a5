"""What runs wrote down is cleared away in small steps, once it has been kept for its days.
What a run came to stays, and so does whatever an undo still needs.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from datetime import datetime, timedelta

from django.db import transaction
from django.db.models import OuterRef, QuerySet

from pinecart.service.aside.selectors import things_kept
from pinecart.service.aside.services import forget_asides
from pinecart.service.config.settings import STATE
from pinecart.service.runs.log_files import files_of
from pinecart.service.runs.models import RecordRow, Run, RunEvent
from pinecart.service.runs.name_index import forget_names

AT_ONCE = 1000  # rows in one step …
RUNS_AT_ONCE = 50  # … of so many runs
EVENTS_KEPT = timedelta(days=2)
PASSING = ("preview", "inventory")
RECORDING = ("transfer", "undo", "expiry", "audit")


def clear_records(now: datetime, days: int, of_jobs: Mapping[str, int]) -> bool:
    """One step: some records of runs that have had their days. days: 0: none.   of_jobs: jobs that
    have days of their own. False: there was nothing to do.
    """
    due = _due(Run.objects.exclude(job__in=list(of_jobs)), now, days)
    for job, own in of_jobs.items():
        due = due or _due(Run.objects.filter(job=job), now, own)
    if due:
        _clear_some(due, now)
    return bool(due)


def _due(runs: QuerySet[Run], now: datetime, days: int) -> list[int]:
    """days: 0 keeps them for good."""
    if not days:
        return []
    until = now - timedelta(days=days)
    ended = runs.filter(kind__in=RECORDING, ended_at__lt=until, cleared_at=None)
    needed = things_kept(OuterRef("pk"))
    due = ended.exclude(needed).order_by("ended_at")
    numbers = due.values_list("pk", flat=True)
    return list(numbers[:RUNS_AT_ONCE])


@transaction.atomic(savepoint=False)
def _clear_some(runs: Collection[int], now: datetime) -> None:
    if _delete_some(runs) < AT_ONCE:  # these were the last
        Run.objects.filter(pk__in=runs).update(cleared_at=now, course=[])


def _delete_some(runs: Collection[int]) -> int:
    """How many."""
    found = RecordRow.objects.filter(run_id__in=runs)
    some = found.values_list("pk", "key")[:AT_ONCE]
    rows = [(pk, bytes(key)) for pk, key in some]
    forget_names(rows)
    numbers = [pk for pk, _ in rows]
    gone = RecordRow.objects.filter(pk__in=numbers)
    deleted, _ = gone.delete()
    return deleted


def end_runs(now: datetime, *, previews: int, runs: int) -> bool:
    """One step: some of a preview, or of a run, that has had its days, is forgotten whole."""
    old = _numbers(_ended_before(now, previews).filter(kind__in=PASSING))
    if not old:
        cleared = _ended_before(now, runs).exclude(cleared_at=None)
        old = _numbers(cleared.exclude(things_kept(OuterRef("pk"))))
    if old and _forgotten(old):
        for number in old:
            clear_log(number)
    return bool(old)


def _numbers(runs: QuerySet[Run]) -> list[int]:
    return list(runs.values_list("pk", flat=True)[:RUNS_AT_ONCE])


@transaction.atomic(savepoint=False)
def _forgotten(runs: Collection[int]) -> bool:
    """False: they have more records than are taken away in one step."""
    if _delete_some(runs) == AT_ONCE:
        return False
    forget_asides(runs)
    Run.objects.filter(pk__in=runs).delete()
    return True


def _ended_before(now: datetime, days: int) -> QuerySet[Run]:
    if not days:
        return Run.objects.none()
    return Run.objects.filter(ended_at__lt=now - timedelta(days=days)).order_by("ended_at")


@transaction.atomic(savepoint=False)
def clear_events(now: datetime, seen: int) -> bool:
    """One step: events that nobody waits for any more. seen: up to which people were told of."""
    until = now - EVENTS_KEPT
    old = RunEvent.objects.filter(pk__lte=seen, run__ended_at__lt=until)
    some = old.values_list("pk", flat=True)[:AT_ONCE]
    numbers = list(some)
    gone = RunEvent.objects.filter(pk__in=numbers)
    deleted, _ = gone.delete()
    return deleted > 0


def clear_log(run: int) -> None:
    """All files of a run: its log, however often that was begun anew, and what it kept for the case
    that its process dies.
    """
    for file in files_of(run):
        file.unlink(missing_ok=True)
    for ending in ("lock", "intents", "checked"):
        STATE.run_file(run, ending).unlink(missing_ok=True)


def over_before(numbers: list[int], moment: datetime) -> set[int]:
    """Of these runs those that ended before it, or that there are none of any more."""
    living = Run.objects.filter(pk__in=numbers).exclude(ended_at__lt=moment)
    return set(numbers) - set(living.values_list("pk", flat=True))
