"""Due times against an independent computation: every minute of the clock on the wall, looked at
one by one.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest

from pinecart.core.errors import Invalid
from pinecart.core.schedule import Schedule, parse_schedule
from tests.repeats import first

ZONES = ["Europe/London", "America/New_York", "Asia/Kolkata", "Australia/Lord_Howe"]
FIXED = ["30 1 * * *", "45 1 * * 0", "5 2 * * *", "0 0 1 * *", "15 1,2 * * *"]
EVERY = ["*/30 * * * *", "0 * * * *", "*/20 * * * *"]
MINUTE = timedelta(minutes=1)


def matches(cron, wall):
    def one(field, value):
        return any(
            part == "*"
            or (part.startswith("*/") and value % int(part[2:]) == 0)
            or part == str(value)
            for part in field.split(",")
        )

    minute, hour, day, month, weekday = cron.split()
    return (
        one(minute, wall.minute)
        and one(hour, wall.hour)
        and one(day, wall.day)
        and one(month, wall.month)
        and one(weekday, wall.isoweekday() % 7)
    )


def due_between(cron, zone, start, end):
    """Walk the minutes of UTC, and ask the wall's clock at each; the gaps are found
    where it jumps.
    """
    place, due, at = ZoneInfo(zone), [], start
    every = cron.split()[1] == "*"
    last = (at - MINUTE).astimezone(place).replace(tzinfo=None)
    shown = set()
    while at < end:
        wall = at.astimezone(place).replace(tzinfo=None)
        skipped = last + MINUTE
        in_gap = False
        while skipped < wall:
            in_gap = in_gap or matches(cron, skipped)
            skipped += MINUTE
        if in_gap or (matches(cron, wall) and (every or wall not in shown)):
            due.append(at)
        shown.add(wall)
        last, at = wall, at + MINUTE
    return due


def changes(zone, years):
    """Days around which the offset changes."""
    place, day = ZoneInfo(zone), datetime(2026, 1, 1, tzinfo=UTC)
    while day.year < 2026 + years:
        if (
            day.astimezone(place).utcoffset()
            != (day + timedelta(days=1)).astimezone(place).utcoffset()
        ):
            yield day
        day += timedelta(days=1)


def computed(cron, zone, start, end):
    schedule, at, due = Schedule(cron, zone), start - timedelta(seconds=1), []
    while (at := schedule.after(at)) < end:
        due.append(at)
    return due


@pytest.mark.parametrize("zone", ZONES)
@pytest.mark.parametrize("cron", [*FIXED, *EVERY])
def test_around_every_change_of_four_years_each_is_due_as_it_should(cron, zone):
    for day in changes(zone, 4):
        start, end = day - timedelta(hours=3), day + timedelta(hours=27)
        assert computed(cron, zone, start, end) == due_between(cron, zone, start, end), (
            cron,
            zone,
            day,
        )


@pytest.mark.parametrize("zone", first(2, ZONES))
def test_once_a_day_is_once_a_day_for_ten_years(zone):
    place = ZoneInfo(zone)
    for cron in ("30 1 * * *", "15 2 * * *"):
        due = computed(
            cron, zone, datetime(2026, 1, 1, tzinfo=UTC), datetime(2036, 1, 1, tzinfo=UTC)
        )
        days = [d.astimezone(place).date() for d in due]
        assert days == sorted(set(days)) and len(days) >= 3651


@pytest.mark.parametrize("zone", ZONES)
def test_many_at_once_are_the_same_as_one_after_the_other(zone):
    for day in [datetime(2026, 2, 3, tzinfo=UTC), *changes(zone, 1)]:
        for cron in ("30 1 * * *", "*/30 * * * *"):
            end = day + timedelta(days=3)
            last = end - timedelta(seconds=1)
            many = Schedule(cron, zone).upcoming(day, 500, last)
            assert many == [due for due in computed(cron, zone, day, end) if day < due <= end]
            assert Schedule(cron, zone).upcoming(day, 2, last) == many[:2]


def test_from_any_moment_the_next_is_the_same():
    for zone in ZONES:
        for day in list(changes(zone, 1)):
            due = computed("*/30 * * * *", zone, day, day + timedelta(days=1))
            for n in range(0, 24 * 60, 7):
                at = day + timedelta(minutes=n, seconds=11)
                wanted = next((d for d in due if d > at), None)
                assert wanted is None or Schedule("*/30 * * * *", zone).after(at) == wanted


@pytest.mark.parametrize("cron", ["0 0 30 2 *", "0 0 31 4,6 *"])
def test_what_never_comes_due_is_refused(cron):
    with pytest.raises(Invalid, match="never comes due"):
        parse_schedule(cron, "UTC")
