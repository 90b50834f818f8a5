"""Renaming on the way: a pattern and its replacement, or a template of the name's
parts and date.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime
from functools import lru_cache
from string import Formatter
from typing import Any, NamedTuple

import re2

from pinecart.core.entries import Entry
from pinecart.core.errors import Invalid
from pinecart.core.patterns import MOST_LETTERS

FIELDS = ("folder", "name", "ending", "year", "month", "day", "counter")


class Renaming(NamedTuple):
    """pattern: a regular expression (of RE2, so `\\w` is of ASCII alone) searched in the whole path
    below From; empty: `to` is a template of FIELDS.

    In a template `{folder}` ends in `/` or is empty, `{ending}` starts with `.` or is empty; dates
    are of the file.
    """

    pattern: str
    to: str

    def new_key(self, entry: Entry, counter: int) -> bytes:
        text = entry.key.decode("utf-8", "surrogateescape")
        if self.pattern:
            return _odd_bytes(_of_people(self.pattern).sub(self.to, _odd_letters(text)))
        folder, slash, last = text.rpartition("/")
        stem, dot, ending = last.rpartition(".")
        at = datetime.fromtimestamp((entry.modified_ns or 0) / 10**9, UTC)
        values = {
            "folder": folder + slash,
            "name": stem or last,
            "ending": dot + ending if stem else "",
            "year": f"{at.year:04}",
            "month": f"{at.month:02}",
            "day": f"{at.day:02}",
            "counter": f"{counter:04}",
        }
        return _filled(self.to, values).encode("utf-8", "surrogateescape")


def _odd_letters(text: str) -> str:
    """Bytes that are no text as letters that nobody uses, since RE2 takes text alone."""
    if text.isascii():
        return text
    return text.translate(_ODD)


def _odd_bytes(text: str) -> bytes:
    return (text if text.isascii() else text.translate(_BACK)).encode("utf-8", "surrogateescape")


_ODD = {0xDC00 + n: 0x10FE00 + n for n in range(128, 256)}
_BACK = {there: here for here, there in _ODD.items()}


@lru_cache(maxsize=64)
def _of_people(pattern: str) -> Any:
    """A regular expression of a person's, which takes a time that grows with the name alone (RE2).

    Raises ValueError.
    """
    options = re2.Options()
    options.log_errors = False
    try:
        return re2.compile(pattern, options)
    except re2.error as exc:
        told = exc.args[0].decode(errors="replace") if isinstance(exc.args[0], bytes) else str(exc)
        raise ValueError(told) from exc


@lru_cache(maxsize=64)
def _pieces(template: str) -> tuple[tuple[str, str], ...]:
    """(text, field after it) of a template.

    Raises ValueError for anything but plain fields: widths and the like are none of it.
    """
    found = []
    for text, name, spec, conversion in Formatter().parse(template):
        if spec or conversion or (name is not None and name not in FIELDS):
            raise ValueError(f"{{{name}}} is no field, or has more in it than a name")
        found.append((text, name or ""))
    return tuple(found)


def _filled(template: str, values: dict[str, str]) -> str:
    return "".join(text + (values[name] if name else "") for text, name in _pieces(template))


def read_renaming(pattern: str, to: str) -> Renaming:
    """Raises Invalid when it can't work: no regular expression, an unknown group or field, an empty
    or rooted name.
    """
    rule = Renaming(pattern, to)
    try:
        if len(pattern) > MOST_LETTERS or len(to) > MOST_LETTERS:
            raise ValueError(f"it has over {MOST_LETTERS} letters")
        if pattern:
            tried = _tried(pattern, to)
        else:
            tried = rule.new_key(Entry(b"folder/name.txt", 1, 10**18), 1)
    except (KeyError, ValueError, IndexError) as exc:
        if pattern:
            hint = "its groups"
        else:
            hint = f"its fields are {', '.join('{' + f + '}' for f in FIELDS)}"
        message = f"The renaming {pattern!r} to {to!r} makes no sense ({exc}); {hint}."
        raise Invalid(
            [{"field": "rename", "code": "rename.malformed", "message": message}]
        ) from None
    if not to or tried.startswith(b"/"):
        message = "A renaming needs a new name that is not empty and does not start with /."
        raise Invalid([{"field": "rename", "code": "rename.malformed", "message": message}])
    return rule


def _tried(pattern: str, to: str) -> bytes:
    """The template, once each group that it names is known to be in the pattern. Raises ValueError
    for one that isn't.
    """
    groups = _of_people(pattern).groups
    for number in re.findall(r"\\(\d+)", to):
        if int(number) > groups:
            raise ValueError(f"there is no group {number}")
    return to.encode()
