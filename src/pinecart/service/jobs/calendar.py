"""What is due, as a calendar that other programs subscribe to (iCalendar, RFC 5545 and 7986)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime, timedelta
from typing import Any

from icalendar import Calendar, Event

from pinecart import __version__

DAYS = 14  # ahead
ASKED_AGAIN = timedelta(hours=1)


def calendar_of(schedule: Iterable[Mapping[str, Any]], now: datetime, address: str) -> bytes:
    """schedule: lines of `schedule_seen`.   address: of the console."""
    product = f"-//Pine Cart//{__version__}//EN"
    own = f"schedule-at-{address}"
    made = Calendar.new(name="Pine Cart", prodid=product, uid=own)
    made.add("refresh-interval", ASKED_AGAIN, parameters={"VALUE": "DURATION"})
    for line in schedule:
        for due in line["due"]:
            event = _event(line, due, now, address)
            made.add_component(event)
    return made.to_ical()


def _event(line: Mapping[str, Any], due: datetime, now: datetime, address: str) -> Event:
    """It says when a run starts, and not how long it takes."""
    return Event.new(
        uid=f"{line['job']}-{due:%Y%m%dT%H%M%SZ}@pinecart",
        stamp=now,
        start=due,
        summary=line["title"] or line["job"],
        description=f"The job {line['job']} runs {line['when']}.",
        url=f"{address}/jobs/{line['job']}",
    )
