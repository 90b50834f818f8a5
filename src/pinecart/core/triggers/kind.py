"""What every kind of trigger is."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple, Protocol

from pinecart.core.form_fields import FormField
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


def one_by_one(trigger: Trigger, now: datetime, most: int, until: datetime) -> list[datetime]:
    """The next due times of a trigger, each asked for after the other."""
    found: list[datetime] = []
    moment = now
    state = TriggerState()
    while len(found) < most:
        due = trigger.due(moment, state)
        if due is None or due > until:
            break
        found.append(due)
        moment = due
        state = TriggerState(due)
    return found
