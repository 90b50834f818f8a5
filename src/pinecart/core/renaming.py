"""Renaming on the way: a pattern and its replacement, or a template of the name's parts and date."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from typing import NamedTuple

from pinecart.core.entries import Entry
from pinecart.core.errors import Invalid

FIELDS = ("folder", "name", "ending", "year", "month", "day", "counter")


class Renaming(NamedTuple):
    """pattern: a regular expression searched in the whole path below From; empty: `to` is a template of FIELDS.

    In a template `{folder}` ends in `/` or is empty, `{ending}` starts with `.` or is empty; dates are of the file.
    """

    pattern: str
    to: str

    def new_key(self, entry: Entry, counter: int) -> bytes:
        text = entry.key.decode("utf-8", "surrogateescape")
        if self.pattern:
            return re.sub(self.pattern, self.to, text).encode("utf-8", "surrogateescape")
        folder, slash, last = text.rpartition("/")
        stem, dot, ending = last.rpartition(".")
        at = datetime.fromtimestamp((entry.modified_ns or 0) / 10**9, UTC)
        values = {
            "folder": folder + slash, "name": stem or last, "ending": dot + ending if stem else "", "year": f"{at.year:04}",
            "month": f"{at.month:02}", "day": f"{at.day:02}", "counter": f"{counter:04}",
        }  # fmt: skip
        return self.to.format_map(values).encode("utf-8", "surrogateescape")


def read_renaming(pattern: str, to: str) -> Renaming:
    """Raises Invalid when it can't work: no regular expression, an unknown group or field, an empty or rooted name."""
    rule = Renaming(pattern, to)
    try:
        tried = rule.new_key(Entry(b"folder/name.txt", 1, 10**18), 1) if not pattern else _tried(pattern, to)
    except (re.error, KeyError, ValueError, IndexError, AttributeError) as exc:
        hint = "its groups" if pattern else f"its fields are {', '.join('{' + f + '}' for f in FIELDS)}"
        message = f"The renaming {pattern!r} to {to!r} makes no sense ({exc}); {hint}."
        raise Invalid([{"field": "rename", "code": "rename.malformed", "message": message}]) from None
    if not to or tried.startswith(b"/"):
        message = "A renaming needs a new name that is not empty and does not start with /."
        raise Invalid([{"field": "rename", "code": "rename.malformed", "message": message}])
    return rule


def _tried(pattern: str, to: str) -> bytes:
    compiled = re.compile(pattern)
    groups = compiled.groups
    for number in re.findall(r"\\(\d+)", to):
        if int(number) > groups:
            raise ValueError(f"there is no group {number}")
    return to.encode()
