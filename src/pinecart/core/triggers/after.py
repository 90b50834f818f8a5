"""A trigger that comes due when a run of another job ends."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any, NamedTuple

from pinecart.core.errors import Invalid
from pinecart.core.form_fields import Choice, FieldType, FormField
from pinecart.core.option_spec import Problems
from pinecart.core.places import is_name
from pinecart.core.triggers.kind import TriggerKind, TriggerState
from pinecart.json_object import JsonObject


class AfterTrigger(NamedTuple):
    """Comes due when a run of another job ends. outcome: "" for any, "clean" or "bad".   placed:
    its runs look only at what the other's placed.
    """

    job: str
    outcome: str
    placed: bool = False

    def fits(self, outcome: str) -> bool:
        """Whether a run that ended so starts it. What is stopped by a person starts nothing:
        somebody wanted that there be no more.
        """
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
        after = f"after each run of {self.job}{AFTER_WORDS[self.outcome]}"
        if self.placed:
            return f"{after}, of just what it placed"
        return after

    def as_mapping(self) -> JsonObject:
        told = {"kind": AFTER.kind, "after": self.job}
        told |= {"when": self.outcome} if self.outcome else {}
        return told | ({"placed": True} if self.placed else {})


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
    return AfterTrigger(job, outcome, given.get("placed") is True)


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
        FormField(
            "placed",
            FieldType.FLAG,
            "Only what it placed",
            "Its runs look only at the files that the other's run copied or replaced, where they "
            "lie in this one's source.",
        ),
    ),
    _parse_after,
)
