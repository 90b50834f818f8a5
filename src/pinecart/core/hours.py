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
        """Whether they are open then, by the clock of their zone."""
        there = moment.astimezone(ZoneInfo(self.zone))
        minute = there.hour * 60 + there.minute
        is_begun = minute >= self.first
        is_over = minute >= self.last
        if self.first < self.last:
            return is_begun and not is_over
        return is_begun or not is_over


def _minute(hour: str, minute: str) -> int | None:
    """Of the day; its end is 24:00. None: there is no such time."""
    past = int(minute)
    told = int(hour) * 60 + past
    if past > 59 or told > DAY:
        return None
    return told


def parse_hours(text: str) -> Hours:
    """Without a zone it is UTC. Raises Invalid."""
    told = " ".join(text.split())
    found = _HOURS.fullmatch(told)
    if not found:
        raise _wrong(text)
    first = _minute(found[1], found[2])
    last = _minute(found[3], found[4])
    if first is None or last is None or first in (last, DAY):
        raise _wrong(text)
    zone = parse_zone(found[5] or "UTC")
    return Hours(first, last, zone)


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
