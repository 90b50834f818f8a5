"""What needs a person and is no run: a disk that fills, stores out of reach, keys that grow old,
sources that can't be watched, jobs that never ran.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from datetime import datetime, timedelta
from typing import NamedTuple

from pinecart.core.totals import size_text
from pinecart.service.config.rights import Actor
from pinecart.service.config.settings import OPTIONS, STATE
from pinecart.service.jobs.selectors import JobLine
from pinecart.service.stores.selectors import stores_listed
from pinecart.service.today.picture import failed_step, is_key_old
from pinecart.service.triggers.selectors import watches_failing

SOON = 4  # times the free disk under which no run starts: less is told
NEVER_AFTER = timedelta(days=1)  # since it was saved


class Concern(NamedTuple):
    """subject: a store's or a job's name; empty: the service.   words: the cause.   todo: what to
    do.   path: of the page where that is done.
    """

    subject: str
    words: str
    todo: str
    path: str


def concerns(
    actor: Actor, jobs: Collection[JobLine], ran: Collection[str], now: datetime
) -> list[Concern]:
    """ran: the jobs that have run at some time."""
    of_stores = _stores(actor, now)
    of_jobs = _never_ran(jobs, ran, now)
    return [*_disk(), *of_stores, *_sources(jobs), *of_jobs]


def _disk() -> Iterable[Concern]:
    """Long before runs stop starting, so that somebody can still make room by day."""
    least = OPTIONS.least_free
    free = STATE.free_bytes()
    if free < SOON * least:
        left = size_text(free)
        needed = size_text(least)
        words = f"Only {left} of disk are free where Pine Cart keeps its records."
        todo = f"Make room, or keep less: under {needed} no run starts."
        yield Concern("", words, todo, "/settings")


def _stores(actor: Actor, now: datetime) -> Iterable[Concern]:
    for record in stores_listed(actor):
        path = f"/stores/{record.name}/about"
        failed = failed_step(record)
        if failed:
            words = f"The last try failed at {failed['step']}: {failed['message']}"
            yield Concern(record.name, words, "Mend it, and try it again.", path)
        if is_key_old(record, now):
            todo = "Give it a new one before it ends."
            yield Concern(record.name, "Its key is over a year old.", todo, path)


def _sources(jobs: Collection[JobLine]) -> Iterable[Concern]:
    """Jobs that start when their source changes, and whose source can't be seen: nothing would
    start them, and nobody would notice.
    """
    unwatched = watches_failing()
    for job in jobs:
        if job.is_on and job.name in unwatched:
            words = f"Its source can't be watched: {unwatched[job.name]}"
            todo = "Nothing starts it until it can: look at the store."
            yield Concern(job.name, words, todo, f"/jobs/{job.name}")


def _never_ran(jobs: Collection[JobLine], ran: Collection[str], now: datetime) -> Iterable[Concern]:
    todo = "Preview it, or start it once and look."
    for job in jobs:
        if job.name in ran or not job.is_on:
            continue
        is_planned = bool(job.definition.get("schedule"))
        if is_planned and now - job.saved_at > NEVER_AFTER:
            yield Concern(job.name, "It has never run.", todo, f"/jobs/{job.name}")
