"""What runs came to since the beginning, whatever of them is cleared away later."""

from __future__ import annotations

from pinecart.service.runs.models import Run, RunTally

STEPS_S = (1, 5, 15, 60, 300, 900, 3600, 14_400, 86_400)
CARRIES = ("copy", "replace")


def count_run(run: Run) -> None:
    """One more that ended; in the transaction of its end."""
    if run.kind != "transfer":
        return
    row = RunTally.objects.get_or_create(outcome=run.outcome)[0]
    done = [g for g in run.summed if g["done"] and g["decision"] in CARRIES and not g["folder"]]
    row.runs += 1
    row.files += sum(group["n"] for group in done)
    row.bytes += sum(group["b"] for group in done)
    if run.started_at and run.ended_at:
        seconds = (run.ended_at - run.started_at).total_seconds()
        step = next((str(step) for step in STEPS_S if seconds <= step), "inf")
        row.seconds += seconds
        row.lasted = {**row.lasted, step: row.lasted.get(step, 0) + 1}
    row.save()
