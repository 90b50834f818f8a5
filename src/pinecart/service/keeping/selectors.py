from __future__ import annotations

import os
import time
from collections import Counter

from django.db import connection

from pinecart.core.periods import PERIOD_TITLES, Periods
from pinecart.json_object import JsonObject
from pinecart.service.config.settings import STATE
from pinecart.service.runs.name_index import FILE
from pinecart.service.settings.selectors import keep_set

# table → what people call what it holds
TABLES = {
    "runs_recordrow": "What was done to each file",
    "ledger_ledgerrow": "What is remembered of each file",
    "runs_ledgerrow": "What is remembered of each file",
    "runs_run": "Runs, with their totals",
    "runs_runevent": "Events of runs",
    "runs_asiderow": "What is set aside",
    "trail_line": "The trail",
    "notices_happeningrow": "What was told",
    "notices_delivery": "What was told",
    "jobs_jobversion": "Versions of jobs",
}
REST = "All else"


def periods() -> Periods:
    return Periods.of(keep_set())


def room_taken() -> list[JsonObject]:
    """What takes how much room in the state folder, the most first. periods: what it is kept for,
    in days; None: that isn't by days.
    """
    found = Counter[str]()
    for table, size in _table_sizes():
        found[TABLES.get(table, REST)] += size
    found["Free pages of the database"] = _free_bytes()
    names = STATE.root / FILE
    if names.exists():
        found["Index of names"] += names.stat().st_size
    for entry in os.scandir(STATE.root / "runs"):
        found["Logs of runs"] += entry.stat().st_size
    kept = periods()._asdict()
    days = {title: kept[name] for name, title in PERIOD_TITLES.items()}
    return [
        {"what": what, "bytes": size, "days": days.get(what)}
        for what, size in found.most_common()
        if size
    ]


_COUNTED: dict[str, tuple[float, list[tuple[str, int]]]] = {}  # folder → when, and what was found
COUNTED_FOR_S = 300.0


def _table_sizes() -> list[tuple[str, int]]:
    """Each table with its indexes, in bytes (SQLite's dbstat). All pages of a large database are
    looked at for that: what was found holds for some minutes.
    """
    now = time.monotonic()
    folder = str(STATE.root)
    at, found = _COUNTED.get(folder, (0.0, []))
    if not found or now - at > COUNTED_FOR_S:
        found = _counted()
        _COUNTED[folder] = now, found
    return found


def _counted() -> list[tuple[str, int]]:
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT m.tbl_name, sum(s.pgsize) FROM dbstat('main', 1) s"
            " JOIN sqlite_master m ON m.name = s.name GROUP BY m.tbl_name"
        )
        return [(str(name), int(size)) for name, size in cursor.fetchall()]


def _free_bytes() -> int:
    return free_pages() * _pragma("page_size")


def free_pages() -> int:
    """Pages of the database that hold nothing any more."""
    return _pragma("freelist_count")


def _pragma(name: str) -> int:
    with connection.cursor() as cursor:
        cursor.execute(f"PRAGMA {name}")
        return int(cursor.fetchone()[0])
