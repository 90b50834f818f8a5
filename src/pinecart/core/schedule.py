"""When a job runs by the clock: five-field cron expressions in a named time zone (POSIX crontab(5) fields).

Cron arithmetic is croniter's. A time that a change to summer time skips is taken at the next instant that exists;
one that comes twice is taken once.
"""

from __future__ import annotations

from datetime import UTC, datetime
from typing import NamedTuple
from zoneinfo import ZoneInfo, available_timezones

from croniter import croniter

from pinecart.core.errors import Invalid


class Schedule(NamedTuple):
    """cron: five fields.   zone: an IANA time zone name."""

    cron: str
    zone: str = "UTC"

    def after(self, moment: datetime) -> datetime:
        """The first due time later than `moment`, in UTC."""
        local = moment.astimezone(ZoneInfo(self.zone))
        found: datetime = croniter(self.cron, local).get_next(datetime)
        return found.astimezone(UTC)


def parse_schedule(cron: str, zone: str) -> Schedule:
    """Raises Invalid when the expression has not five fields, a field is out of range, or the zone is unknown."""
    problems = []
    if len(cron.split()) != 5 or not croniter.is_valid(cron):
        message = (
            f"{cron!r} is not a cron expression of five fields: minute hour day month weekday, such as '30 5 * * *'."
        )
        problems.append({"field": "schedule.cron", "code": "schedule.malformed", "message": message})
    if zone not in available_timezones():
        message = f"{zone!r} is no time zone. Use a name such as 'Europe/London' or 'UTC'."
        problems.append({"field": "schedule.zone", "code": "schedule.zone-unknown", "message": message})
    if problems:
        raise Invalid(problems)
    return Schedule(" ".join(cron.split()), zone)
