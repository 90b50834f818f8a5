"""When jobs come due by themselves."""

from __future__ import annotations

from datetime import datetime

from pinecart.core.definition import Definition
from pinecart.core.triggers import TriggerState
from pinecart.service.jobs.models import JobRecord
from pinecart.service.jobs.selectors import definition_of


def due_after(
    definition: Definition, now: datetime, last_due: datetime | None = None
) -> datetime | None:
    """When a job comes due by itself after `now`; None: only when somebody starts it."""
    if definition.trigger is None:
        return None
    return definition.trigger.due(now, TriggerState(last_due))


def due_anew(now: datetime, *, all_of_them: bool) -> int:
    """Work out again when jobs are due next; how many that changed.

    Without `all_of_them` only what is due later than it can be.
    """
    changed = 0
    for record in JobRecord.objects.exclude(next_due=None):
        due = due_after(definition_of(record), now)
        if due != record.next_due and (
            all_of_them or (due is not None and record.next_due and record.next_due > due)
        ):
            changed += JobRecord.objects.filter(pk=record.pk, next_due=record.next_due).update(
                next_due=due
            )
    return changed


def set_next_due(record: JobRecord, due: datetime | None) -> None:
    JobRecord.objects.filter(pk=record.pk).update(next_due=due)
