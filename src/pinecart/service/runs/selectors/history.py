"""What runs came to, one after another."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple

from pinecart.core.expectations import LastRun
from pinecart.core.happenings import GOOD
from pinecart.service.runs.models import Run, RunEvent

CARRIES = ("copy", "replace")


class StateEvent(NamedTuple):
    """A run came to this state."""

    pk: int
    run: int
    state: str
    outcome: str


def states_after(number: int, limit: int) -> list[StateEvent]:
    """In their order."""
    rows = RunEvent.objects.filter(pk__gt=number, kind="state").order_by("pk")
    found = rows.values_list("pk", "run_id", "payload")[:limit]
    return [StateEvent(pk, run, told["state"], told["outcome"]) for pk, run, told in found]


def outcome_before(job: str, number: int) -> str:
    """How the run of a job before this one ended, those left out that were skipped or stopped."""
    earlier = Run.objects.filter(job=job, kind="transfer", pk__lt=number, state="ended")
    counts = earlier.exclude(outcome__in=("skipped", "stopped")).order_by("-pk")
    return counts.values_list("outcome", flat=True).first() or ""


def last_ended(job: str) -> LastRun | None:
    """The last run of a job that wasn't skipped."""
    ended = Run.objects.filter(job=job, kind="transfer", state="ended")
    run = ended.exclude(outcome="skipped").order_by("-ended_at").first()
    if run is None or run.ended_at is None:
        return None
    return LastRun(run.pk, run.ended_at, _carried(run.summed), run.outcome in GOOD)


def last_new(job: str) -> datetime | None:
    """When a run of a job last carried anything."""
    ended = Run.objects.filter(job=job, kind="transfer", state="ended").order_by("-ended_at")
    for summed, ended_at in ended.values_list("summed", "ended_at").iterator(50):
        if _carried(summed):
            return ended_at
    return None


def _carried(summed: list[dict[str, object]]) -> int:
    """Files that were copied or replaced."""
    done = (group for group in summed if group["done"] and not group["folder"])
    return sum(int(str(group["n"])) for group in done if group["decision"] in CARRIES)
