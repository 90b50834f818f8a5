"""Named values as they are written down: lines like `site=north-fell`."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

DATE_PARTS = ("year", "month", "day", "hour", "week")  # in places they are the run's own
_NAME = re.compile(r"[a-z][a-z0-9_]{0,39}")


def read_values(lines: Iterable[str]) -> tuple[dict[str, str], list[str]]:
    """Name → value of lines like `site=north-fell`, and what is wrong with each that is not one."""
    found: dict[str, str] = {}
    wrong = []
    for line in lines:
        name, sign, value = map(str.strip, line.partition("="))
        problem = _wrong_with(name, sign, value, found)
        if problem:
            wrong.append(f"{line!r}: {problem}")
        found[name] = value
    return found, wrong


def _wrong_with(name: str, sign: str, value: str, found: Mapping[str, str]) -> str:
    """What to do, for the first thing that is wrong with a line; empty: nothing is. The value goes
    into keys, where it may not lead elsewhere.
    """
    if not sign:
        return "write it as name=value."
    if not _NAME.fullmatch(name):
        return "a name has small letters, digits and _, and begins with a letter."
    if name in DATE_PARTS:
        return f"{name} is a part of the date."
    if name in found:
        return f"there are two values {name}."
    if "{" in value or "/" in (value[:1], value[-1:]) or not value:
        return "a value isn't empty, has no {, and neither begins nor ends with a /."
    return ""


def lines_of(values: Mapping[str, str]) -> list[str]:
    return [f"{name}={value}" for name, value in values.items()]
