"""What is expected of a job's runs, and whether it has come."""

from __future__ import annotations

import re
from datetime import datetime, time, timedelta
from typing import NamedTuple
from zoneinfo import ZoneInfo

from pinecart.core.happenings import Kind
from pinecart.core.selection import read_span

_TIME = re.compile(r"(\d{1,2}):(\d{2})")
_RANGE = re.compile(r"(\d{1,9}) ?(?:-|–|to) ?(\d{1,9})")
DAY = timedelta(days=1)


class Expected(NamedTuple):
    """new: something new at least once in so long.   by: done by this time of a day, on the clock
    of `zone`.   files: so many to so many are carried by a run.
    """

    new: timedelta | None
    by: time | None
    zone: str
    files: tuple[int, int] | None


class LastRun(NamedTuple):
    """The last one that ended by itself. carried: so many files were copied or replaced."""

    number: int
    ended_at: datetime
    carried: int
    is_good: bool


class Unmet(NamedTuple):
    """id: the same as long as it is the same thing that hasn't come."""

    id: str
    kind: Kind
    words: str
    run: int | None = None


def read_time(text: str) -> time:
    """`06:00`. Raises ValueError."""
    found = _TIME.fullmatch(text.strip())
    hour = int(found[1]) if found else 24
    minute = int(found[2]) if found else 0
    if hour > 23 or minute > 59:
        raise ValueError("write a time of the day as 06:00.")
    return time(hour, minute)


def read_range(text: str) -> tuple[int, int]:
    """`300-500`. Raises ValueError."""
    told = " ".join(text.split())
    found = _RANGE.fullmatch(told)
    if found:
        least = int(found[1])
        most = int(found[2])
    else:
        least = 1
        most = 0
    if least > most:
        raise ValueError("write from so many to so many files as 300-500.")
    return least, most


def expected_of(new: str, by: str, files: str, zone: str) -> Expected:
    """Of a definition's options, which were read before. Empty: nothing is expected."""
    return Expected(
        timedelta(seconds=read_span(new)) if new else None,
        read_time(by) if by else None,
        zone,
        read_range(files) if files else None,
    )


def last_deadline(by: time, zone: str, now: datetime) -> datetime:
    """The last time at which the clock there showed `by`."""
    there = now.astimezone(ZoneInfo(zone))
    whole = there.replace(second=0, microsecond=0)
    deadline = whole.replace(hour=by.hour, minute=by.minute)
    if deadline > there:
        deadline -= DAY
    return deadline


def unmet_of(
    job: str,
    expected: Expected,
    *,
    now: datetime,
    last_new: datetime,
    last: LastRun | None,
    was_due: bool,
) -> list[Unmet]:
    """last_new: when something new came last, or else since when it is expected.   was_due: within
    the day before the last deadline the job was to run.
    """
    found = []
    if expected.new and now - last_new > expected.new:
        days = (now - last_new).days
        words = f"Nothing new has come for {days} days: since {last_new:%Y-%m-%d %H:%M} UTC."
        found.append(Unmet(f"not-come:{job}:{last_new:%Y%m%d%H%M%S}", Kind.NOT_COME, words))
    if expected.by and was_due:
        deadline = last_deadline(expected.by, expected.zone, now)
        if not (last and last.is_good and last.ended_at > deadline - DAY):
            words = f"It was to be done by {expected.by:%H:%M} ({expected.zone}), and isn't."
            found.append(Unmet(f"late:{job}:{deadline:%Y%m%d}", Kind.LATE, words))
    if expected.files and last:
        least, most = expected.files
        if not least <= last.carried <= most:
            words = f"{least:,} to {most:,} files were expected, and {last.carried:,} came."
            found.append(Unmet(f"amount:{last.number}", Kind.NOT_COME, words, last.number))
    return found
