from __future__ import annotations

import json
from collections import Counter
from collections.abc import Collection
from datetime import datetime
from itertools import islice
from typing import Any, NamedTuple

from django.db import connection
from django.db.models import Q

from pinecart.core.estimates import Took
from pinecart.core.lifecycle import ALIVE, RunState
from pinecart.core.places import parse_location
from pinecart.core.totals import CARRIES
from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import UnknownName
from pinecart.service.config.rights import Actor, Right
from pinecart.service.runs.models import LOOKING, Instance, Run, RunEvent
from pinecart.service.stores.selectors import ceiling_of

ALIVE_STATES = [s.value for s in ALIVE]


def run_numbered(number: int, actor: Actor, kind: str | None = None) -> Run:
    found = Run.objects.filter(pk=number).first()
    if kind == "transfer" and found and found.kind in ("undo", "expiry"):
        kind = found.kind
    if found is None or (kind and found.kind != kind) or not actor.may(Right.LOOK, found.labels):
        what = (kind or "run").replace("transfer", "run")
        message = f"There is no {what} {number}. See them with: pinecart run list."
        raise UnknownName(message, code="run.unknown")
    return found


UNTOLD = ("course", "inventory", "effort", "released")  # of a run among others


def runs_numbered(numbers: Collection[int]) -> list[Run]:
    """The newest first; whoever asks."""
    found = Run.objects.defer(*UNTOLD).filter(pk__in=numbers)
    return list(found.order_by("-id"))


def was_released(job: str, digest: str) -> bool:
    """Whether somebody said yes to this in a run of the job."""
    found = (
        Run.objects.filter(job=job)
        .exclude(released=[])
        .order_by("-id")
        .values_list("released", flat=True)[:200]
    )
    return any(digest in released for released in found)


MOST_LOOKED_AT = 5000  # runs, for somebody who sees only some labels


def runs_seen(
    actor: Actor,
    *,
    kind: str,
    job: str = "",
    state: str = "",
    before: int | None = None,
    since: datetime | None = None,
    until: datetime | None = None,
    only: str = "",
    limit: int = 50,
) -> list[Run]:
    """Newest first. state: a state or an outcome.   since, until: when it ended.   only: of what
    counts as a run, one kind.
    """
    found = Run.objects.defer(*UNTOLD).order_by("-id")
    if kind == "transfer" and not only:
        # Said by what they are not, they are read from the newest on, and not all sorted first.
        found = found.exclude(kind__in=LOOKING)
    else:
        found = found.filter(kind=only or kind)
    if job:
        found = found.filter(job=job)
    if state:
        found = found.filter(Q(state=state) | Q(outcome=state))
    if before is not None:
        found = found.filter(pk__lt=before)
    if since is not None:
        found = found.filter(ended_at__gte=since)
    if until is not None:
        found = found.filter(ended_at__lt=until)
    some_at_a_time = found[:MOST_LOOKED_AT].iterator(chunk_size=limit)
    seen = (run for run in some_at_a_time if actor.may(Right.LOOK, run.labels))
    return list(islice(seen, limit))


def latest_runs(job: str) -> dict[str, Run]:
    """kind → the latest run of a job that wasn't skipped."""
    found = {}
    for kind in ("transfer", "audit"):
        run = (
            Run.objects.filter(job=job, kind=kind)
            .exclude(outcome="skipped")
            .order_by("-id")
            .first()
        )
        if run:
            found[kind] = run
    return found


RECENT = 14


class Latest(NamedTuple):
    """One of the latest runs of a job. Times as the database has them; seconds: it took."""

    id: int
    job: str
    state: str
    outcome: str
    queued_at: str
    started_at: str | None
    ended_at: str | None
    seconds: float | None


# Of each job as many rows are read, however many there are: `+` keeps an index from being used by
# which all of them would be sorted.
_LATEST = """
SELECT run.id, run.job, run.state, run.outcome, CAST(run.queued_at AS TEXT),
  CAST(run.started_at AS TEXT), CAST(run.ended_at AS TEXT),
  (julianday(run.ended_at) - julianday(run.started_at)) * 86400.0
FROM json_each(%s) AS wanted JOIN runs_run AS run ON run.id IN (
  SELECT id FROM runs_run WHERE job = wanted.value AND +kind = 'transfer' AND +outcome <> 'skipped'
  ORDER BY id DESC LIMIT %s)
ORDER BY run.id
"""


def _latest(jobs: Collection[str], most: int) -> list[Latest]:
    """Of each of these jobs the latest transfers that weren't skipped, the oldest first. Read past
    Django's models: there are hundreds of these on one page.
    """
    with connection.cursor() as cursor:
        cursor.execute(_LATEST, [json.dumps(list(jobs)), most])
        return [Latest(*row) for row in cursor.fetchall()]


def recent_runs(jobs: Collection[str], most: int = RECENT) -> dict[str, list[JsonObject]]:
    """job → its latest transfers that weren't skipped, oldest first, as JSON tells them."""
    found: dict[str, list[JsonObject]] = {}
    for run in _latest(jobs, most):
        told = {
            "id": run.id,
            "state": run.state,
            "outcome": run.outcome,
            "queued_at": _as_json(run.queued_at),
            "started_at": _as_json(run.started_at),
            "ended_at": _as_json(run.ended_at),
            "seconds": None if run.seconds is None else round(run.seconds, 3),
        }
        found.setdefault(run.job, []).append(told)
    return found


def _as_json(time: str | None) -> str | None:
    """A time as the database has it, in UTC."""
    if time:
        return f"{time[:10]}T{time[11:]}Z"
    return None


def last_runs(jobs: Collection[str]) -> dict[str, Latest]:
    """job → its latest transfer that wasn't skipped."""
    return {run.job: run for run in _latest(jobs, 1)}


def bytes_carried(runs: Collection[int]) -> dict[int, int]:
    """run → the bytes that it copied and replaced."""
    rows = Run.objects.filter(pk__in=runs).values_list("pk", "summed")
    found = {}
    for number, groups in rows:
        carried = 0
        for group in groups:
            if group["done"] and group["decision"] in CARRIES:
                carried += group["b"]
        found[number] = carried
    return found


def alive_of(job: str, kind: str) -> Run | None:
    return Run.objects.filter(job=job, kind=kind, state__in=ALIVE_STATES).order_by("id").first()


def runs_alive(job: str, kind: str) -> list[Run]:
    """Those of a job that haven't ended, the oldest first."""
    return list(Run.objects.filter(job=job, kind=kind, state__in=ALIVE_STATES).order_by("id"))


def ended_since(job: str, moment: datetime) -> list[Run]:
    """Transfers of a job that ended later than `moment`, in the order of their ends."""
    ended = Run.objects.filter(job=job, kind="transfer", state=RunState.ENDED.value)
    return list(ended.filter(ended_at__gt=moment).order_by("ended_at"))


def transfer_under_way(job: str) -> Run | None:
    """One that changes things now, or is about to; not one that waits for a person."""
    busy = [RunState.QUEUED.value, RunState.WORKING.value, RunState.INTERRUPTED.value]
    return Run.objects.filter(job=job, kind="transfer", state__in=busy).order_by("id").first()


def run_beside(run: Run) -> Run | None:
    """A transfer of the same job that was under way at any time since this run began."""
    found = Run.objects.filter(job=run.job, kind="transfer", started_at__isnull=False)
    return found.filter(
        Q(ended_at=None, state=RunState.WORKING.value) | Q(ended_at__gte=run.started_at)
    ).first()


PAST = 20  # runs of a job that tell how long it takes


def last_took(job: str) -> list[Took]:
    """What the last runs of a job did that did anything, and how long it took."""
    ended = Run.objects.filter(job=job, kind="transfer", state="ended")
    in_order = ended.exclude(started_at=None).order_by("-id")
    found = []
    for run in in_order[: 5 * PAST]:
        objects = size = 0
        for group in run.summed:
            if group["done"] and group["decision"] != "leave":
                objects += group["n"]
                size += group["b"]
        if objects and run.ended_at and run.started_at:
            lasted = run.ended_at - run.started_at
            took = Took(objects, size, lasted.total_seconds())
            found.append(took)
    return found[:PAST]


class Wishes(NamedTuple):
    """What people want of a run under way. rate: bytes per second."""

    stop: bool = False
    at_once: bool = False
    pause: bool = False
    rate: int | None = None


def wishes(run: int) -> Wishes:
    """What people want of the run by now, asked again and again while it works; nothing, where it
    is gone.
    """
    fields = ("stop_wanted", "stop_at_once", "pause_wanted", "rate")
    found = Run.objects.filter(pk=run).values_list(*fields).first()
    if found:
        return Wishes(*found)
    return Wishes()


def shares(stores: Collection[str]) -> dict[str, int]:
    """How many requests at once each store bears from one run: its ceiling, divided among the runs
    that work on it; 0: no ceiling.
    """
    ceilings = {name: most for name in stores if (most := ceiling_of(name))}
    if not ceilings:
        return dict.fromkeys(stores, 0)
    users = Counter[str]()
    for definition in Run.objects.filter(state=RunState.WORKING.value).values_list(
        "definition", flat=True
    ):
        users.update(
            {
                parse_location(leg[side]).store
                for leg in definition["legs"]
                for side in ("from", "to")
            }
        )
    return {
        name: max(1, ceilings[name] // max(1, users[name])) if name in ceilings else 0
        for name in stores
    }


def events_after(number: int) -> list[tuple[int, int, str, Any]]:
    """(id, run, kind, payload) in order."""
    return list(
        RunEvent.objects.filter(pk__gt=number)
        .order_by("id")
        .values_list("id", "run_id", "kind", "payload")[:500]
    )


def last_event() -> int:
    return RunEvent.objects.order_by("-id").values_list("id", flat=True).first() or 0


def database_epoch() -> str:
    return Instance.objects.get().epoch


def runs_working() -> list[Run]:
    return list(Run.objects.filter(state="working"))


def run_of(number: int) -> Run:
    return Run.objects.get(pk=number)
