"""The clock: starts what is due, once, also after the service was off; tells why it did not."""

from __future__ import annotations

from datetime import datetime

from django.db import transaction

from pinecart.service.config.rights import SYSTEM
from pinecart.service.jobs.selectors import definition_of, jobs_due
from pinecart.service.jobs.services import set_next_due
from pinecart.service.runs.selectors import alive_of
from pinecart.service.runs.services import (
    clear_forgotten,
    end_overdue_holds,
    record_skipped,
    start_due_clearing,
    start_run,
)


class Clock:
    def turn(self, now: datetime) -> None:
        """However often a job came due since the last turn, it gets one run."""
        end_overdue_holds(now)
        start_due_clearing(now)
        clear_forgotten(now)
        for record in jobs_due(now):
            definition, due = definition_of(record), record.next_due
            following = definition.schedule.after(now) if definition.schedule else None
            with transaction.atomic():
                set_next_due(record, following)
                late = (now - due).total_seconds() if due else 0
                cause = f"schedule, due {due:%Y-%m-%d %H:%M} UTC" + (
                    f", {late / 60:.0f} min late" if late >= 60 else ""
                )
                under_way = alive_of(definition.job, "transfer")
                if under_way:
                    why = f"It came due while run {under_way.pk} was still under way."
                    record_skipped(definition, cause=cause, why=why, now=now)
                else:
                    start_run(SYSTEM, definition, kind="transfer", cause=cause)

    def close(self) -> None:
        """Nothing is held."""
