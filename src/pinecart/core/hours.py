"""Hours of a day: `22:00-06:00 Europe/London`; and a time of each day: `07:30 Europe/London`."""

from __future__ import annotations

import re
from datetime import datetime, time
from typing import NamedTuple
from zoneinfo import ZoneInfo

from pinecart.core.errors import Invalid
from pinecart.core.expectations import last_deadline, read_time
from pinecart.core.schedule import parse_zone

_HOURS = re.compile(r"(\d{1,2}):(\d{2}) ?(?:-|–|to) ?(\d{1,2}):(\d{2})(?: (\S+))?")
DAY = 24 * 60


class Hours(NamedTuple):
    """first, last: minutes of a day in the zone; from a first later than its last it is over
    midnight.
    """

    first: int
    last: int
    zone: str

    def include(self, moment: datetime) -> bool:
        there = moment.astimezone(ZoneInfo(self.zone))
        minute = there.hour * 60 + there.minute
        if self.first < self.last:
            return self.first <= minute < self.last
        return minute >= self.first or minute < self.last


def parse_hours(text: str) -> Hours:
    """Without a zone it is UTC. Raises Invalid."""
    found = _HOURS.fullmatch(" ".join(text.split()))
    if not found:
        raise _wrong(text)
    first = int(found[1]) * 60 + int(found[2])
    last = int(found[3]) * 60 + int(found[4])
    if first >= DAY or last > DAY or first == last or int(found[2]) > 59 or int(found[4]) > 59:
        raise _wrong(text)
    return Hours(first, last, parse_zone(found[5] or "UTC"))


class DayTime(NamedTuple):
    at: time
    zone: str

    def last(self, moment: datetime) -> datetime:
        """When it was this time last, up to `moment`."""
        return last_deadline(self.at, self.zone, moment)


def parse_day_time(text: str) -> DayTime:
    """Without a zone it is UTC. Raises Invalid."""
    clock, _, zone = " ".join(text.split()).partition(" ")
    try:
        at = read_time(clock)
    except ValueError:
        message = f"{text!r} is no time of a day: write it as 07:30, or 07:30 Europe/London."
        raise Invalid(
            [{"field": "time", "code": "schedule.day-time", "message": message}]
        ) from None
    return DayTime(at, parse_zone(zone or "UTC"))


def _wrong(text: str) -> Invalid:
    message = f"{text!r} are no hours: write them as 22:00-06:00, or 22:00-06:00 Europe/London."
    return Invalid([{"field": "hours", "code": "schedule.hours", "message": message}])
