"""A trigger that comes due when a job's source has changed, and was left alone since."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any, NamedTuple

from pinecart.core.errors import Invalid
from pinecart.core.form_fields import FieldType, FormField
from pinecart.core.option_spec import Problems
from pinecart.core.triggers.kind import TriggerKind, TriggerState
from pinecart.json_object import JsonObject

KIND = "changes"
SETTLED_S = 10
LOOK_S = 60
_SETTLED = FormField(
    "settled",
    FieldType.NUMBER,
    "Settled for (seconds)",
    "A file that was changed more lately is still growing, and waits.",
    default=str(SETTLED_S),
    least=1,
    most=86_400,
)
_LOOK = FormField(
    "look",
    FieldType.NUMBER,
    "Look every (seconds)",
    "How often it is looked. A folder of a local disk is looked at as soon as the system tells of "
    "a change, besides.",
    default=str(LOOK_S),
    least=5,
    most=86_400,
)


class ChangesTrigger(NamedTuple):
    """settled_s: so long a file must have been left alone.   look_s: from one look to the next."""

    settled_s: int = SETTLED_S
    look_s: int = LOOK_S

    def due(self, now: datetime, state: TriggerState) -> datetime | None:
        return None

    def upcoming(self, now: datetime, most: int, until: datetime) -> list[datetime]:
        return []

    def describe(self) -> str:
        settled = f"was left alone for {self.settled_s} s since"
        return f"when something at its source has changed and {settled}"

    def as_mapping(self) -> JsonObject:
        return {"kind": KIND, "settled": self.settled_s, "look": self.look_s}


def _parse(given: Mapping[str, Any]) -> ChangesTrigger:
    """How long a file must have rested, and how often to look; what was left out is as usual.
    All that is wrong is told at once. Raises Invalid.
    """
    reading = Problems()
    settled_s = _seconds(_SETTLED, given, SETTLED_S, reading)
    look_s = _seconds(_LOOK, given, LOOK_S, reading)
    if reading.problems:
        raise Invalid(reading.problems)
    return ChangesTrigger(settled_s, look_s)


def _seconds(field: FormField, given: Mapping[str, Any], default: int, reading: Problems) -> int:
    name = field.name
    least = field.least
    most = field.most
    value = given.get(name)
    if value in (None, ""):
        return default
    text = str(value).strip()
    if text.isdecimal() and least <= int(text) <= most:
        return int(text)
    message = f"{name} {value!r} must be whole seconds, from {least} to {most}."
    reading.wrong(f"schedule.{name}", "schedule.malformed", message)
    return default


CHANGES = TriggerKind(KIND, "When something changes", (_SETTLED, _LOOK), _parse)
