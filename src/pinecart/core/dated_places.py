"""Places that change with the day: `pine://office/{year}/{month}/` is filled in for each run."""

from __future__ import annotations

import re
from dataclasses import replace
from datetime import datetime
from zoneinfo import ZoneInfo

from pinecart.core.definition import Definition, Leg
from pinecart.core.places import Location

_PART = re.compile(rb"\{(year|month|day|hour|week)\}")


def is_dated(definition: Definition) -> bool:
    return any(
        _PART.search(place.path) for leg in definition.legs for place in (leg.source, leg.target)
    )


def filled(definition: Definition, moment: datetime) -> Definition:
    """With the parts of this time, by the clock of the schedule's zone; UTC without one.

    week: of ISO 8601, with two digits as all others but the year.
    """
    if not is_dated(definition):
        return definition
    there = moment.astimezone(ZoneInfo(zone_of(definition)))
    values = {
        b"year": f"{there.year:04}",
        b"month": f"{there.month:02}",
        b"day": f"{there.day:02}",
        b"hour": f"{there.hour:02}",
        b"week": f"{there.isocalendar().week:02}",
    }
    legs = tuple(_leg(leg, values) for leg in definition.legs)
    return replace(definition, legs=legs)


def zone_of(definition: Definition) -> str:
    schedule = definition.trigger.as_mapping() if definition.trigger else {}
    return str(schedule.get("zone") or "UTC")


def _leg(leg: Leg, values: dict[bytes, str]) -> Leg:
    return replace(leg, source=_place(leg.source, values), target=_place(leg.target, values))


def _place(place: Location, values: dict[bytes, str]) -> Location:
    path = _PART.sub(lambda found: values[found[1]].encode(), place.path)
    return place._replace(path=path)
