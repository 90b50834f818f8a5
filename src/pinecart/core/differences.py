"""Two definitions of a job beside each other: what differs, in words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

from pinecart.core.options import OPTIONS

TITLES = {
    "job": "Name",
    "title": "Title",
    "why": "Why it exists",
    "labels": "Labels",
    "owner": "Owner",
    "from": "Take from",
    "to": "Put to",
    "one": "Only the file",
    "schedule": "Schedule",
}
ABSENT = "as usual"


class Difference(NamedTuple):
    """field: as the definition calls it, with the leg's number from 0 (`legs[0].take`).
    title: as people call it.   before, after: values in words.
    """

    field: str
    title: str
    before: str
    after: str


def differences(before: Mapping[str, Any], after: Mapping[str, Any]) -> list[Difference]:
    """What differs between two definitions as JSON, in the order of their fields."""
    old = _flat(before)
    new = _flat(after)
    found = []
    for field in old | new:
        was = old.get(field)
        now = new.get(field)
        if was != now:
            title = _title(field)
            found.append(Difference(field, title, in_words(was), in_words(now)))
    return found


def _flat(definition: Mapping[str, Any]) -> dict[str, Any]:
    """Each field with its value, those of legs and of the schedule by themselves."""
    found: dict[str, Any] = {}
    for name, value in definition.items():
        if name == "legs":
            for number, leg in enumerate(value):
                for key, inner in leg.items():
                    found[f"legs[{number}].{key}"] = inner
        elif name == "schedule":
            for key, inner in (value or {}).items():
                found[f"schedule.{key}"] = inner
        else:
            found[name] = value
    return {field: value for field, value in found.items() if value not in (None, "", [], {})}


def _title(field: str) -> str:
    where, _, name = field.rpartition(".")
    option = OPTIONS.get(name)
    plain = name.replace("_", " ")
    title = option.field.title if option else TITLES.get(name, plain)
    if where.startswith("legs["):
        number = int(where[5:-1]) + 1
        return f"{title} (leg {number})"
    if where:
        return f"{TITLES[where]}: {title}"
    return title


def in_words(value: Any) -> str:
    """A value of a definition on one line, as people read it: yes or no, names with what they
    hold, lists with commas.
    """
    if value is None:
        return ABSENT
    if isinstance(value, bool):
        if value:
            return "yes"
        return "no"
    if isinstance(value, Mapping):
        return ", ".join(f"{name} {inner}" for name, inner in value.items())
    if isinstance(value, Sequence) and not isinstance(value, str):
        return ", ".join(map(str, value))
    return str(value)
