"""What starts a job by itself. A new kind is a TriggerKind, and a line here; the API, job files,
the command line and the console's form follow from it.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pinecart.core.errors import Invalid
from pinecart.core.registry import Registry
from pinecart.core.triggers.after import AFTER, AfterTrigger
from pinecart.core.triggers.by_time import (
    CLOCK,
    EVERY,
    ONCE,
    ClockTrigger,
    EveryTrigger,
    OnceTrigger,
)
from pinecart.core.triggers.changes import CHANGES, ChangesTrigger
from pinecart.core.triggers.kind import Trigger, TriggerKind, TriggerState, one_by_one

__all__ = [
    "AFTER",
    "CHANGES",
    "CLOCK",
    "EVERY",
    "ONCE",
    "TRIGGERS",
    "AfterTrigger",
    "ChangesTrigger",
    "ClockTrigger",
    "EveryTrigger",
    "OnceTrigger",
    "Trigger",
    "TriggerKind",
    "TriggerState",
    "one_by_one",
    "read_trigger",
]
TRIGGERS: Registry[TriggerKind] = Registry("kind of trigger")
for _kind in (CLOCK, EVERY, ONCE, AFTER, CHANGES):
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
