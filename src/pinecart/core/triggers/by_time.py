"""Triggers that come due by time: by the clock, again and again, once."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo

from pinecart.core.errors import Invalid
from pinecart.core.form_fields import FieldType, FormField
from pinecart.core.option_spec import Problems
from pinecart.core.schedule import Schedule, parse_schedule, parse_zone
from pinecart.core.schedule_words import cron_of, in_words
from pinecart.core.selection import read_span
from pinecart.core.triggers.kind import TriggerKind, TriggerState, one_by_one
from pinecart.json_object import JsonObject


class ClockTrigger(NamedTuple):
    """Comes due by a cron expression in a time zone."""

    schedule: Schedule

    def due(self, now: datetime, state: TriggerState) -> datetime | None:
        return self.schedule.after(now)

    def upcoming(self, now: datetime, most: int, until: datetime) -> list[datetime]:
        return self.schedule.upcoming(now, most, until)

    def describe(self) -> str:
        return in_words(self.schedule.cron, self.schedule.zone)

    def as_mapping(self) -> JsonObject:
        return {"cron": self.schedule.cron, "zone": self.schedule.zone}


def _parse_clock(given: Mapping[str, Any]) -> ClockTrigger:
    """Its time is a cron expression, or words that mean one."""
    told = given.get("cron") or ""
    text = str(told).strip()
    cron = cron_of(text) or text
    zone = given.get("zone") or "UTC"
    return ClockTrigger(parse_schedule(cron, str(zone)))


CLOCK = TriggerKind(
    "clock",
    "By the clock",
    (
        FormField(
            "cron",
            FieldType.TEXT,
            "Starts",
            "In words, or as five fields: minute hour day month weekday.",
            is_needed=True,
            example="weekdays 05:30",
        ),
        FormField("zone", FieldType.TEXT, "Time zone", "Of the schedule.", default="UTC"),
    ),
    _parse_clock,
)


class EveryTrigger(NamedTuple):
    """Comes due again and again after the same time, whatever clocks show. seconds: at least 60.

    starting: the first time, in UTC, from which all others are counted.
    """

    text: str
    seconds: float
    starting: datetime | None

    def due(self, now: datetime, state: TriggerState) -> datetime | None:
        """Always a whole number of steps after the first: a service that was away for long starts
        it once, and keeps the beat.
        """
        begun = self.starting or state.last_due
        step = timedelta(seconds=self.seconds)
        if begun is None:
            return now + step
        if begun > now:
            return begun
        passed = (now - begun) // step
        return begun + (passed + 1) * step

    def upcoming(self, now: datetime, most: int, until: datetime) -> list[datetime]:
        return one_by_one(self, now, most, until)

    def describe(self) -> str:
        since = f", counted from {self.starting:%Y-%m-%d %H:%M} UTC" if self.starting else ""
        return f"every {self.text}{since}"

    def as_mapping(self) -> JsonObject:
        told: JsonObject = {"kind": EVERY.kind, "every": self.text}
        if self.starting:
            told["starting"] = self.starting.isoformat()
        return told


def _parse_every(given: Mapping[str, Any]) -> EveryTrigger:
    text = " ".join(str(given.get("every") or "").split())
    reading = Problems()
    seconds = 0.0
    try:
        seconds = read_span(text)
    except ValueError as exc:
        reading.wrong("schedule.every", "schedule.malformed", f"every {text!r}: {exc}")
    if not reading.problems and seconds < LEAST_EVERY_S:
        message = f"every {text!r} is too often: a minute at least."
        reading.wrong("schedule.every", "schedule.malformed", message)
    starting = _moment(given, "starting", "UTC", reading)
    if reading.problems:
        raise Invalid(reading.problems)
    return EveryTrigger(text, seconds, starting)


class OnceTrigger(NamedTuple):
    """Comes due once. at: in UTC."""

    at: datetime
    zone: str

    def due(self, now: datetime, state: TriggerState) -> datetime | None:
        if self.at > now:
            return self.at
        return None

    def upcoming(self, now: datetime, most: int, until: datetime) -> list[datetime]:
        return one_by_one(self, now, most, until)

    def describe(self) -> str:
        there = self.at.astimezone(ZoneInfo(self.zone))
        return f"once, on {there:%Y-%m-%d} at {there:%H:%M} ({self.zone})"

    def as_mapping(self) -> JsonObject:
        return {"kind": ONCE.kind, "at": self.at.isoformat(), "zone": self.zone}


def _parse_once(given: Mapping[str, Any]) -> OnceTrigger:
    zone = str(given.get("zone") or "UTC")
    parse_zone(zone)
    reading = Problems()
    at = _moment(given, "at", zone, reading)
    if at is None and not reading.problems:
        reading.wrong("schedule.at", "schedule.malformed", "Say when: 2026-03-02 05:30.")
    if reading.problems or at is None:
        raise Invalid(reading.problems)
    return OnceTrigger(at, zone)


def _moment(given: Mapping[str, Any], field: str, zone: str, reading: Problems) -> datetime | None:
    """A time, in UTC; without an offset it is the zone's."""
    text = str(given.get(field) or "").strip()
    if not text:
        return None
    try:
        read = datetime.fromisoformat(text)
    except ValueError:
        message = f"{field} {text!r} is no time: write it as 2026-03-02 05:30."
        reading.wrong(f"schedule.{field}", "schedule.malformed", message)
        return None
    there = read if read.tzinfo else read.replace(tzinfo=ZoneInfo(zone))
    return there.astimezone(UTC)


LEAST_EVERY_S = 60
EVERY = TriggerKind(
    "every",
    "Again and again",
    (
        FormField(
            "every",
            FieldType.AGE,
            "Every",
            "The time from one start to the next.",
            is_needed=True,
            example="90 minutes",
        ),
        FormField(
            "starting",
            FieldType.TEXT,
            "Counted from",
            "A time, in UTC, from which all starts are counted.",
            default="when it was saved",
            example="2026-03-02 05:30",
        ),
    ),
    _parse_every,
)
ONCE = TriggerKind(
    "once",
    "Once",
    (
        FormField(
            "at",
            FieldType.TEXT,
            "At",
            "Once, at this time.",
            is_needed=True,
            example="2026-03-02 05:30",
        ),
        FormField("zone", FieldType.TEXT, "Time zone", "Of the time.", default="UTC"),
    ),
    _parse_once,
)
