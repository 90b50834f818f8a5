"""What starts a job by itself. A new kind is a TriggerKind here; the API, job files, the command
line and the console's form follow from it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any, NamedTuple, Protocol
from zoneinfo import ZoneInfo

from pinecart.core.errors import Invalid
from pinecart.core.form_fields import Choice, FieldType, FormField
from pinecart.core.option_spec import Problems
from pinecart.core.places import is_name
from pinecart.core.registry import Registry
from pinecart.core.schedule import Schedule, parse_schedule, parse_zone
from pinecart.core.schedule_words import cron_of, in_words
from pinecart.core.selection import read_span
from pinecart.json_object import JsonObject


class TriggerState(NamedTuple):
    """What is remembered of a job's trigger. last_due: when it last came due, in UTC."""

    last_due: datetime | None = None


class Trigger(Protocol):
    """One job's, as it was read."""

    def due(self, now: datetime, state: TriggerState) -> datetime | None:
        """The next time later than `now`, in UTC; None: never again."""
        ...

    def upcoming(self, now: datetime, most: int, until: datetime) -> list[datetime]:
        """Its next due times, none later than `until`, in UTC; `most` at most."""
        ...

    def describe(self) -> str:
        """In words that follow on "Runs by itself"."""
        ...

    def as_mapping(self) -> JsonObject:
        """As JSON; `read_trigger` gives it back."""
        ...


@dataclass(frozen=True)
class TriggerKind:
    """title: as a form shows it.   fields: of its form.   parse: raises Invalid with every problem
    at once; the fields are named `schedule.NAME`.
    """

    kind: str
    title: str
    fields: tuple[FormField, ...]
    parse: Callable[[Mapping[str, Any]], Trigger]

    def described(self) -> JsonObject:
        return {
            "kind": self.kind,
            "title": self.title,
            "fields": [field.described() for field in self.fields],
        }


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
    text = str(given.get("cron") or "").strip()
    zone = str(given.get("zone") or "UTC")
    cron = cron_of(text) or text
    return ClockTrigger(parse_schedule(cron, zone))


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


def one_by_one(trigger: Trigger, now: datetime, most: int, until: datetime) -> list[datetime]:
    """The next due times of a trigger, each asked for after the other."""
    found: list[datetime] = []
    moment, state = now, TriggerState()
    while len(found) < most:
        due = trigger.due(moment, state)
        if due is None or due > until:
            break
        found.append(due)
        moment, state = due, TriggerState(due)
    return found


class EveryTrigger(NamedTuple):
    """Comes due again and again after the same time, whatever clocks show. seconds: at least 60.

    starting: the first time, in UTC, from which all others are counted.
    """

    text: str
    seconds: float
    starting: datetime | None

    def due(self, now: datetime, state: TriggerState) -> datetime | None:
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
        return self.at if self.at > now else None

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


class AfterTrigger(NamedTuple):
    """Comes due when a run of another job ends. outcome: "" for any, "clean" or "bad"."""

    job: str
    outcome: str

    def fits(self, outcome: str) -> bool:
        """Whether a run that ended so starts it. What is stopped by a person starts nothing."""
        if self.outcome == "clean":
            return outcome in ("clean", "nothing-to-do")
        if self.outcome == "bad":
            return outcome in ("problems", "failed")
        return outcome in ("clean", "nothing-to-do", "problems", "failed")

    def due(self, now: datetime, state: TriggerState) -> datetime | None:
        return None

    def upcoming(self, now: datetime, most: int, until: datetime) -> list[datetime]:
        return []

    def describe(self) -> str:
        return f"after each run of {self.job}{AFTER_WORDS[self.outcome]}"

    def as_mapping(self) -> JsonObject:
        told = {"kind": AFTER.kind, "after": self.job}
        return told | ({"when": self.outcome} if self.outcome else {})


def _parse_after(given: Mapping[str, Any]) -> AfterTrigger:
    reading = Problems()
    job = str(given.get("after") or "").strip()
    outcome = str(given.get("when") or "")
    if not is_name(job):
        message = f"{job!r} is no job's name."
        reading.wrong("schedule.after", "schedule.malformed", message)
    if outcome not in AFTER_WORDS:
        message = f"{outcome!r}: choose clean or bad, or leave it out."
        reading.wrong("schedule.when", "schedule.malformed", message)
    if reading.problems:
        raise Invalid(reading.problems)
    return AfterTrigger(job, outcome)


AFTER_WORDS = {"": "", "clean": " that ended well", "bad": " that ended with problems, or failed"}
AFTER = TriggerKind(
    "after",
    "After another job",
    (
        FormField(
            "after",
            FieldType.TEXT,
            "After the job",
            "Each of its runs that ends starts one of this.",
            is_needed=True,
            example="dawn",
        ),
        FormField(
            "when",
            FieldType.CHOICE,
            "That ended",
            "clean: well; bad: with problems, or failed.",
            default="however",
            choices=(
                Choice("clean", "Well"),
                Choice("bad", "With problems, or failed"),
            ),
        ),
    ),
    _parse_after,
)
TRIGGERS: Registry[TriggerKind] = Registry("kind of trigger")
for _kind in (CLOCK, EVERY, ONCE, AFTER):
    TRIGGERS.add(_kind.kind, _kind)


def read_trigger(given: Any) -> Trigger | None:
    """A job's `schedule`; without a `kind` it is the clock's. Raises Invalid."""
    if not given:
        return None
    kind = given.get("kind", CLOCK.kind) if isinstance(given, Mapping) else None
    if not isinstance(kind, str) or kind not in TRIGGERS:
        known = "; ".join(map(_kind_told, TRIGGERS.values()))
        message = f"{given!r} is no schedule. The kinds and their fields are: {known}."
        raise _wrong("schedule.malformed", message[:500])
    trigger = TRIGGERS[kind]
    names = {field.name for field in trigger.fields}
    unknown = given.keys() - names - {"kind"}
    if unknown:
        told = ", ".join(sorted(map(str, unknown)))
        raise _wrong("job.unknown-key", f"A schedule of the kind {kind} has no {told}.")
    return trigger.parse(given)


def _kind_told(trigger: TriggerKind) -> str:
    fields = ", ".join(field.name for field in trigger.fields)
    return f"{trigger.kind}: {fields}"


def _wrong(code: str, message: str) -> Invalid:
    return Invalid([{"field": "schedule", "code": code, "message": message}])
