"""What starts a job by itself. A new kind is a TriggerKind here; the API, job files, the command
line and the console's form follow from it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple, Protocol

from pinecart.core.errors import Invalid
from pinecart.core.form_fields import FieldType, FormField
from pinecart.core.registry import Registry
from pinecart.core.schedule import Schedule, parse_schedule
from pinecart.json_object import JsonObject


class TriggerState(NamedTuple):
    """What is remembered of a job's trigger. last_due: when it last came due, in UTC."""

    last_due: datetime | None = None


class Trigger(Protocol):
    """One job's, as it was read."""

    def due(self, now: datetime, state: TriggerState) -> datetime | None:
        """The next time later than `now`, in UTC; None: never again."""
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

    def describe(self) -> str:
        return f"at {self.schedule.cron} ({self.schedule.zone})"

    def as_mapping(self) -> JsonObject:
        return {"cron": self.schedule.cron, "zone": self.schedule.zone}


def _parse_clock(given: Mapping[str, Any]) -> ClockTrigger:
    cron, zone = str(given.get("cron") or ""), str(given.get("zone") or "UTC")
    return ClockTrigger(parse_schedule(cron, zone))


CLOCK = TriggerKind(
    "clock",
    "By the clock",
    (
        FormField(
            "cron",
            FieldType.TEXT,
            "Minute hour day month weekday",
            "When it runs: five fields.",
            is_needed=True,
            example="30 5 * * *",
        ),
        FormField("zone", FieldType.TEXT, "Time zone", "Of the schedule.", default="UTC"),
    ),
    _parse_clock,
)
TRIGGERS: Registry[TriggerKind] = Registry("kind of trigger")
TRIGGERS.add(CLOCK.kind, CLOCK)


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
