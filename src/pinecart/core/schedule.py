"""When a job runs by the clock: five-field cron expressions in a named time zone (POSIX crontab(5)
fields).

Cron arithmetic is croniter's, on the times that a clock on the wall shows; which instants those are
is decided here. Where clocks go forward, what would have been due in the gap is due once, at its
end. Where they go back, a fixed time is due once, the first time that the clock shows it; with
every hour taken (`*/30 * * * *`) time passes as it passes, and both are due.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from typing import NamedTuple
from zoneinfo import ZoneInfo, available_timezones

from croniter import croniter
from croniter.croniter import CroniterBadDateError

from pinecart.core.errors import Invalid

NEAR = timedelta(hours=4)  # no clock is put forward or back by more


class Schedule(NamedTuple):
    """cron: five fields.   zone: an IANA time zone name."""

    cron: str
    zone: str = "UTC"

    def after(self, moment: datetime) -> datetime:
        """The first due time later than `moment`, in UTC."""
        zone = ZoneInfo(self.zone)
        start = moment.astimezone(zone).replace(tzinfo=None)
        if _changes_near(moment, zone):
            start -= NEAR
        best: datetime | None = None
        for wall in self._walls(start):
            if best is not None and wall > best.astimezone(zone).replace(tzinfo=None) + NEAR:
                break
            later = [i for i in self._instants(wall, zone) if i > moment]
            best = min([*later, best] if best else later, default=None)
            if best is not None and not _changes_near(best, zone):
                break
        assert best is not None  # a clock on the wall never stands still
        return best

    def upcoming(self, moment: datetime, most: int, until: datetime) -> list[datetime]:
        """The due times later than `moment` and not later than `until`, in UTC; `most` at most."""
        zone = ZoneInfo(self.zone)
        found: list[datetime] = []
        if not _changes_between(moment, until, zone):
            offset = moment.astimezone(zone).utcoffset() or timedelta(0)
            for wall in self._walls(moment.astimezone(zone).replace(tzinfo=None)):
                due = (wall - offset).replace(tzinfo=UTC)
                if due > until or len(found) == most:
                    return found
                found.append(due)
        while len(found) < most:
            moment = self.after(moment)
            if moment > until:
                break
            found.append(moment)
        return found

    def _walls(self, start: datetime) -> Iterator[datetime]:
        """Due times as a clock on the wall shows them, after `start`."""
        found = croniter(self.cron, start)
        while True:
            yield found.get_next(datetime)

    def _instants(self, wall: datetime, zone: ZoneInfo) -> list[datetime]:
        """When the clock there shows this: once, or twice as it is set back."""
        there = wall.replace(tzinfo=zone)
        first = there.replace(fold=0).astimezone(UTC)
        second = there.replace(fold=1).astimezone(UTC)
        if first == second:
            return [first]
        seen = first.astimezone(zone).replace(tzinfo=None)
        if seen != wall:
            return [_end_of_gap(second, first, zone)]
        if self.takes_every_hour:
            return [first, second]
        return [first]

    @property
    def takes_every_hour(self) -> bool:
        return self.cron.split()[1] in ("*", "*/1")


def _changes_between(first: datetime, last: datetime, zone: ZoneInfo) -> bool:
    """Whether clocks are put forward or back from a little before to a little after."""
    moment = first - NEAR
    end = last + NEAR
    before = moment.astimezone(zone).utcoffset()
    while moment < end:
        moment = min(moment + timedelta(days=1), end)
        if moment.astimezone(zone).utcoffset() != before:
            return True
    return False


def _changes_near(moment: datetime, zone: ZoneInfo) -> bool:
    before, after = ((moment + by).astimezone(zone).utcoffset() for by in (-NEAR, NEAR))
    return before != after


def _end_of_gap(before: datetime, after: datetime, zone: ZoneInfo) -> datetime:
    """The first instant, to the second, with the offset that `after` has and `before` has not."""
    wanted = after.astimezone(zone).utcoffset()
    while after - before > timedelta(seconds=1):
        middle = before + (after - before) / 2
        if middle.astimezone(zone).utcoffset() == wanted:
            after = middle
        else:
            before = middle
    return after.replace(microsecond=0)


def parse_schedule(cron: str, zone: str) -> Schedule:
    """Raises Invalid when the expression has not five fields, a field is out of range, it never
    comes due, or the zone is unknown.
    """
    problems = []
    if len(cron.split()) != 5 or not croniter.is_valid(cron):
        message = (
            f"{cron!r} is not understood. Write it in words, such as 'weekdays 05:30', or as a "
            "cron expression of five fields: minute hour day month weekday, such as '30 5 * * *'."
        )
        problems.append(
            {"field": "schedule.cron", "code": "schedule.malformed", "message": message}
        )
    elif not _comes_due(cron):
        message = f"{cron!r} never comes due: no such day is in any year."
        problems.append({"field": "schedule.cron", "code": "schedule.never", "message": message})
    try:
        parse_zone(zone)
    except Invalid as exc:
        problems += exc.problems
    if problems:
        raise Invalid(problems)
    return Schedule(" ".join(cron.split()), zone)


def parse_zone(zone: str) -> str:
    """Raises Invalid where there is no such time zone."""
    if zone in _zones():
        return zone
    message = f"{zone!r} is no time zone. Use a name such as 'Europe/London' or 'UTC'."
    raise Invalid([{"field": "schedule.zone", "code": "schedule.zone-unknown", "message": message}])


@lru_cache(maxsize=1)
def _zones() -> frozenset[str]:
    """Looked for once: the tree of their files is walked for it."""
    return frozenset(available_timezones())


def _comes_due(cron: str) -> bool:
    try:
        croniter(cron, datetime(2024, 1, 1, tzinfo=UTC)).get_next(datetime)
    except CroniterBadDateError:
        return False
    return True
