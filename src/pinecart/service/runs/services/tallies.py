"""What runs came to since the beginning, whatever of them is cleared away later."""

from __future__ import annotations

from pinecart.core.totals import CARRIES
from pinecart.service.runs.models import Run, RunTally

STEPS_S = (1, 5, 15, 60, 300, 900, 3600, 14_400, 86_400)


def count_run(run: Run) -> None:
    """One more that ended; in the transaction of its end."""
    if run.kind != "transfer":
        return
    row, _ = RunTally.objects.get_or_create(outcome=run.outcome)
    row.runs += 1
    for group in run.summed:
        is_carried = group["done"] and group["decision"] in CARRIES
        if is_carried and not group["folder"]:
            row.files += group["n"]
            row.bytes += group["b"]
    if run.started_at and run.ended_at:
        lasted = run.ended_at - run.started_at
        seconds = lasted.total_seconds()
        step = next((str(step) for step in STEPS_S if seconds <= step), "inf")
        row.seconds += seconds
        row.lasted = {**row.lasted, step: row.lasted.get(step, 0) + 1}
    row.save()
