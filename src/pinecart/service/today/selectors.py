from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any

from django.utils import timezone

from pinecart.core.option_spec import CARRY, REMOVE
from pinecart.core.totals import span_text
from pinecart.json_object import JsonObject
from pinecart.service.config.rights import Actor
from pinecart.service.jobs.selectors import lines_seen
from pinecart.service.jobs.services.due import due_first
from pinecart.service.notices.selectors import still_awaited, unusual_since
from pinecart.service.runs.presentation import run_told
from pinecart.service.runs.selectors import Latest, last_runs, runs_numbered, runs_seen
from pinecart.service.settings.selectors import restored_of
from pinecart.service.today.concerns import concerns

SHOWN_DUE = 5
SHOWN_RECENT = 20
BAD = ("failed", "problems", "stopped")


def today(actor: Actor) -> JsonObject:
    """One sentence; the runs that need a person; what is under way; the last runs; what is due
    next.
    """
    jobs = list(lines_seen(actor))
    last = last_runs([job.name for job in jobs])
    latest = _latest_to_look_at({job.name for job in jobs}, last)
    needed = [r for r in latest if r["outcome"] in BAD or r["state"] == "held"]
    since = timezone.now() - timedelta(days=1)
    runs = runs_seen(actor, kind="transfer", limit=SHOWN_RECENT)
    recent = [run for run in map(run_told, runs) if _is_since(run, since)]
    carries = _latest_carries(actor)
    unfinished = [
        r
        for r in carries
        if r["state"] == "held"
        or (r["outcome"] in BAD and _is_since(r, since) and not _declined(r))
    ]
    working = [r for r in latest + carries if r["state"] not in ("ended", "held")]
    due = due_first(jobs, SHOWN_DUE)
    awaited = still_awaited(job.name for job in jobs)
    worries = [one._asdict() for one in concerns(actor, jobs, last, timezone.now())]
    sentence = _sentence(len(jobs), [*needed, *awaited], working, due)
    if worries:
        things = "thing" if len(worries) == 1 else "things"
        sentence += f" {len(worries)} more {things} to see to."
    if unfinished:
        sentence += (
            f" {len(unfinished)} "
            f"{'copy or removal needs' if len(unfinished) == 1 else 'copies or removals need'} a "
            "look."
        )
    return {
        "sentence": sentence,
        "restored": restored_of(),
        "needed": needed + unfinished,
        "awaited": awaited,
        "unusual": unusual_since((job.name for job in jobs), since),
        "concerns": worries,
        "working": working,
        "recent": recent,
        "due": due,
    }


def _latest_to_look_at(jobs: set[str], last: Mapping[str, Latest]) -> list[JsonObject]:
    """Of each job's latest run those that ended badly, or haven't ended."""
    numbers = []
    for job, run in last.items():
        is_well = run.state == "ended" and run.outcome not in BAD
        if job in jobs and not is_well:
            numbers.append(run.id)
    runs = runs_numbered(numbers)
    return [run_told(run) for run in runs]


def _is_since(run: JsonObject, moment: datetime) -> bool:
    return run["ended_at"] is not None and run["ended_at"] >= moment


def _declined(run: JsonObject) -> bool:
    """A removal that a person answered with no."""
    return run["job"] == REMOVE and run["outcome"] == "stopped"


def _latest_carries(actor: Actor) -> list[JsonObject]:
    """Of one-off transfers, the latest between each two places: a later one that worked settles an
    earlier one.
    """
    found: dict[str, JsonObject] = {}
    for job in (CARRY, REMOVE):
        for run in runs_seen(actor, kind="transfer", job=job, limit=SHOWN_RECENT):
            told = run_told(run)
            found.setdefault(f"{job} {told['legs']}", told)
    return list(found.values())


def _sentence(jobs: int, needed: list[Any], working: list[Any], due: list[Any]) -> str:
    if not jobs:
        return "No jobs yet. Define one to begin."
    sentence = _how_they_are(jobs, needed)
    if working:
        names = ", ".join(run["job"] for run in working[:3])
        sentence += f" Working now: {names}."
    if due:
        first = due[0]
        left = first["next_due"] - timezone.now()
        seconds = max(left.total_seconds(), 0)
        sentence += f" Next: {first['job']} in {span_text(seconds)}."
    return sentence


def _how_they_are(jobs: int, needed: list[Any]) -> str:
    """One sentence of all of them."""
    if not needed:
        if jobs == 1:
            return "The one job is well."
        return f"All {jobs} jobs are well."
    of_each = dict.fromkeys(one["job"] for one in needed)
    named = list(of_each)
    count = len(named)
    names = ", ".join(named[:3])
    if count > 3:
        names += " and others"
    verb = "needs" if count == 1 else "need"
    return f"{count} of {jobs} jobs {verb} a look: {names}."
