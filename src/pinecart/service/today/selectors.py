from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.utils import timezone

from pinecart.core.totals import span_text
from pinecart.service.config.rights import Actor
from pinecart.service.jobs.selectors import jobs_seen, schedule_seen
from pinecart.service.runs.selectors import latest_runs, run_told, runs_seen

BAD = ("failed", "problems", "stopped")


def today(actor: Actor) -> dict[str, Any]:
    """One sentence; the runs that need a person; what is under way; the last runs; what is due next."""
    jobs = jobs_seen(actor)
    latest = [run_told(found["transfer"]) for j in jobs if "transfer" in (found := latest_runs(j.name))]
    needed = [r for r in latest if r["outcome"] in BAD or r["state"] == "held"]
    working = [r for r in latest if r["state"] != "ended"]
    since = timezone.now() - timedelta(days=1)
    recent = [run_told(r) for r in runs_seen(actor, kind="transfer", limit=20) if r.ended_at and r.ended_at >= since]
    due = schedule_seen(actor)[:5]
    return {
        "sentence": _sentence(len(jobs), needed, working, due),
        "needed": needed,
        "working": working,
        "recent": recent,
        "due": due,
    }


def _sentence(jobs: int, needed: list[Any], working: list[Any], due: list[Any]) -> str:
    if not jobs:
        return "No jobs yet. Define one to begin."
    if needed:
        names = ", ".join(r["job"] for r in needed[:3]) + (" and others" if len(needed) > 3 else "")
        well = f"{len(needed)} of {jobs} jobs {'needs' if len(needed) == 1 else 'need'} a look: {names}."
    else:
        well = "The one job is well." if jobs == 1 else f"All {jobs} jobs are well."
    if working:
        well += f" Working now: {', '.join(r['job'] for r in working[:3])}."
    if due:
        left = (due[0]["next_due"] - timezone.now()).total_seconds()
        well += f" Next: {due[0]['job']} in {span_text(max(left, 0))}."
    return well
