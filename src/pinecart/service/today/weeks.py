"""What runs came to, week by week."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from datetime import UTC, date, datetime, time, timedelta

from pinecart.json_object import JsonObject
from pinecart.service.config.rights import Actor, Right
from pinecart.service.jobs.selectors import job_named
from pinecart.service.runs.selectors.history import Bygone, ended_on

SLOT = timedelta(hours=3)  # that share a mark
WORST_FIRST = ("failed", "problems", "stopped", "clean", "nothing-to-do", "skipped")
USUAL = (0.1, 0.5, 0.9)  # of a hundred runs in their order


def weeks_of(actor: Actor, now: datetime, *, job: str, weeks: int) -> list[JsonObject]:
    """The newest first; this one is not over yet. job: one's own; empty: of all that are seen.

    Raises NotFound.
    """
    if job:
        job_named(job, actor)
    today = now.date()
    monday = today - timedelta(days=today.weekday())
    found = []
    for back in range(weeks):
        begin = monday - timedelta(weeks=back)
        days = [begin + timedelta(days=n) for n in range(7)]
        runs = [run for day in days if day <= today for run in ended_on(day, today)]
        seen = [run for run in runs if actor.may(Right.LOOK, run.labels)]
        found.append(_week(begin, [run for run in seen if job in ("", run.job)]))
    return found


def _week(begin: date, runs: Sequence[Bygone]) -> JsonObject:
    since = datetime.combine(begin, time(), UTC)
    slots: dict[int, list[Bygone]] = {}
    for run in runs:
        slot = (run.ended_at - since) // SLOT
        slots.setdefault(slot, []).append(run)
    outcomes = Counter(run.outcome for run in runs)
    seconds = [run.seconds for run in runs if run.seconds and run.outcome != "skipped"]
    marks = [_mark(since, slot, ended) for slot, ended in sorted(slots.items())]
    return {
        "since": since,
        "until": since + timedelta(weeks=1),
        "runs": len(runs),
        "outcomes": dict(outcomes),
        "files": sum(run.files for run in runs),
        "bytes": sum(run.bytes for run in runs),
        "problems": sum(run.problems for run in runs),
        "lasted": _usual(seconds),
        "marks": marks,
    }


def _usual(seconds: list[float]) -> JsonObject | None:
    """Between which two times most of them lie, and the middle one."""
    if not seconds:
        return None
    ordered = sorted(seconds)
    last = len(ordered) - 1
    found = []
    for share in USUAL:
        at = round(share * last)
        found.append(round(ordered[at], 2))
    least, middle, most = found
    return {"least": least, "usual": middle, "most": most}


def _mark(since: datetime, slot: int, ended: Sequence[Bygone]) -> JsonObject:
    """What ended within some hours: by the worst of it."""
    worst = min(ended, key=lambda run: _badness(run.outcome))
    at = since + slot * SLOT
    return {
        "since": at,
        "until": at + SLOT,
        "mark": worst.outcome,
        "runs": len(ended),
        "run": worst.id,
    }


def _badness(outcome: str) -> int:
    if outcome in WORST_FIRST:
        return WORST_FIRST.index(outcome)
    return 0
