"""Clears away what has been kept as long as it shall be: a small step a turn, while runs go on."""

from __future__ import annotations

import os
import time
from datetime import datetime, timedelta

from django.db import connection

from pinecart.core.periods import Periods
from pinecart.service.config.settings import STATE
from pinecart.service.jobs.selectors import days_of_jobs
from pinecart.service.keeping.selectors import free_pages, periods
from pinecart.service.notices.services import clear_told, seen_up_to
from pinecart.service.people.services.clearing import clear_old_entries
from pinecart.service.runs.name_index import add_names, indexed_up_to
from pinecart.service.runs.selectors.records import names_after
from pinecart.service.runs.services.clearing import (
    clear_events,
    clear_log,
    clear_records,
    end_runs,
    over_before,
)

LOGS_EVERY = timedelta(hours=1)
NOTHING_FOR = timedelta(minutes=1)  # where all was cleared, it is looked again so much later
STEP_S = 0.2  # of one turn, at most
FEW_FREE = 500
PAGES_AT_ONCE = 500
NAMES_AT_ONCE = 1000


class Keeper:
    def __init__(self) -> None:
        self._logs_at: datetime | None = None
        self._clears_at: datetime | None = None  # None: there is more to clear

    def turn(self, now: datetime) -> None:
        """As many steps as there is time for; the rest at the next turn."""
        if self._clears_at is None or now >= self._clears_at:
            self._clear(now, periods())
        self._index_names(time.monotonic() + STEP_S)

    def _clear(self, now: datetime, kept: Periods) -> None:
        until = time.monotonic() + STEP_S
        self._clears_at = None
        while time.monotonic() < until:
            if not self._step(now, kept):
                self._clears_at = now + NOTHING_FOR
                break
        if self._logs_at is None or now - self._logs_at >= LOGS_EVERY:
            self._logs_at = now
            self._clear_logs(now, kept.logs)

    def _index_names(self, until: float) -> None:
        """The names of records that were written since."""
        while time.monotonic() < until:
            rows = names_after(indexed_up_to(), NAMES_AT_ONCE)
            if not rows:
                return
            add_names(rows)

    def _step(self, now: datetime, kept: Periods) -> bool:
        return (
            clear_records(now, kept.records, days_of_jobs())
            or end_runs(now, previews=kept.previews, runs=kept.runs)
            or clear_events(now, seen_up_to())
            or clear_told(now, kept.notices)
            or clear_old_entries(now)
            or _give_pages_back()
        )

    def _clear_logs(self, now: datetime, days: int) -> None:
        """Of runs that ended so long ago, and of runs that are no more."""
        if not days:
            return
        numbers = set()
        for entry in os.scandir(STATE.root / "runs"):
            name = entry.name.partition(".")[0]
            if name.isdigit():
                numbers.add(int(name))
        in_order = sorted(numbers)
        moment = now - timedelta(days=days)
        for i in range(0, len(in_order), 500):
            for run in over_before(in_order[i : i + 500], moment):
                clear_log(run)


def _give_pages_back() -> bool:
    """Some of the database's free pages go back to the disk."""
    if free_pages() < FEW_FREE:
        return False
    with connection.cursor() as cursor:
        cursor.execute(f"PRAGMA incremental_vacuum({PAGES_AT_ONCE})")
        cursor.fetchall()
    return True
