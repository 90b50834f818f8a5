"""Which keys a leg takes: name patterns in and out, size, age and dates. Each rule that leaves a
key out says so.

`*` stands for any characters but `/`, `**` for any at all, `?` for one, `[a-z]` for a set. A
pattern with a `/` is held against the whole path below the leg's From; one without is held against
the last part, at any depth. Case counts unless the rules say otherwise. Everything is bytes.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from typing import Any, NamedTuple

from pinecart.core.decide import Reason
from pinecart.core.entries import Entry, modified_ns_of, size_of
from pinecart.core.errors import Invalid
from pinecart.core.patterns import MOST_PATTERNS, compiled, tokens_of

UNITS = {"": 1, "b": 1, "kib": 1 << 10, "mib": 1 << 20, "gib": 1 << 30, "tib": 1 << 40}
SPANS = {"minute": 60, "hour": 3600, "day": 86400, "week": 604800}
RULES = (
    "larger_than",
    "smaller_than",
    "changed_within",
    "unchanged_for",
    "since",
    "until",
    "ignore_case",
)
DAY_NS = 86_400 * 10**9


class Selection(NamedTuple):
    """take, leave_out: have `fullmatch`. take None means everything, leave_out None nothing;
    leaving out wins.

    Sizes in bytes; ages in seconds, counted back from the run's start; dates as ns since 1970 UTC,
    `until` exclusive.
    """

    take: Any = None
    leave_out: Any = None
    larger_than: int | None = None
    smaller_than: int | None = None
    changed_within_s: int | None = None
    unchanged_for_s: int | None = None
    since_ns: int | None = None
    until_ns: int | None = None

    @property
    def is_everything(self) -> bool:
        return self == Selection()

    def takes(self, key: bytes) -> bool:
        """By name alone."""
        if self.leave_out is not None and self.leave_out.fullmatch(key):
            return False
        return self.take is None or bool(self.take.fullmatch(key))

    def takes_all(self, keys: Sequence[bytes]) -> bool:
        """Whether each of them is taken, by name alone."""
        out = self.leave_out
        take = self.take
        if out is not None and any(map(out.fullmatch, keys)):
            return False
        if take is None:
            return True
        return all(map(take.fullmatch, keys))

    def why_not(self, key: bytes, entry: Entry | None, now_ns: int) -> Reason | None:
        """The rule that leaves this key out; None: it is taken. A time that isn't known is never
        outside a rule.
        """
        if not self.takes(key):
            return Reason.LEFT_OUT
        if entry is None:
            return None
        if (self.larger_than is not None and entry.size <= self.larger_than) or (
            self.smaller_than is not None and entry.size >= self.smaller_than
        ):
            return Reason.OTHER_SIZE
        if entry.modified_ns is not None and self._outside_time(entry.modified_ns, now_ns):
            return Reason.OTHER_TIME
        return None

    def why_not_gone(self, key: bytes, remembered: str, now_ns: int) -> Reason | None:
        """The same for a key whose source is gone: by what is remembered of it. What a rule can't
        be asked about is left.
        """
        if not self.takes(key):
            return Reason.LEFT_OUT
        sized = self.larger_than is not None or self.smaller_than is not None
        timed = any(
            v is not None
            for v in (self.changed_within_s, self.unchanged_for_s, self.since_ns, self.until_ns)
        )
        if not (sized or timed):
            return None
        modified_ns = modified_ns_of(remembered)
        if timed and modified_ns is None:
            return Reason.OTHER_TIME
        if not remembered:
            return Reason.OTHER_SIZE
        return self.why_not(key, Entry(key, size_of(remembered), modified_ns), now_ns)

    def _outside_time(self, at: int, now_ns: int) -> bool:
        """Whether it is too old, too young, or of another time than was asked for. A bound that
        isn't set leaves nothing out.
        """
        age_s = (now_ns - at) / 10**9
        return (
            (self.changed_within_s is not None and age_s >= self.changed_within_s)
            or (self.unchanged_for_s is not None and age_s <= self.unchanged_for_s)
            or (self.since_ns is not None and at < self.since_ns)
            or (self.until_ns is not None and at >= self.until_ns)
        )


def compile_selection(
    take: Sequence[str], leave_out: Sequence[str], rules: Mapping[str, Any] | None = None
) -> Selection:
    """Raises Invalid with everything that is malformed.

    rules: any of RULES, as a person writes them.
    """
    rules = rules or {}
    problems: list[dict[str, str]] = []
    any_case = bool(rules.get("ignore_case"))
    patterns = [
        _compile(p, field, any_case, problems)
        for p, field in ((take, "take"), (leave_out, "leave_out"))
    ]
    read = {
        "larger_than": read_size,
        "smaller_than": read_size,
        "changed_within": read_span,
        "unchanged_for": read_span,
        "since": _start_of,
        "until": lambda t: _start_of(t) + DAY_NS,
    }
    found: dict[str, int | None] = {}
    for name, reader in read.items():
        value = rules.get(name)
        try:
            if value in (None, ""):
                found[name] = None
            else:
                found[name] = reader(str(value))
        except ValueError as exc:
            problems.append(
                {"field": name, "code": "rule.malformed", "message": f"{name} {value!r}: {exc}"}
            )
    if problems:
        raise Invalid(problems)
    return Selection(patterns[0], patterns[1], *found.values())


def read_size(text: str) -> int:
    """`500`, `10 MiB`, `1.5 GiB`. Raises ValueError."""
    found = re.fullmatch(r"\s*([0-9]+(?:\.[0-9]+)?)\s*([a-zA-Z]*)\s*", text)
    unit = found[2].lower() if found else None
    if not found or unit not in UNITS:
        raise ValueError("write a size as 500, 10 MiB or 1.5 GiB.")
    number = float(found[1])
    return int(number * UNITS[unit])


def read_span(text: str) -> int:
    """`90 minutes`, `32 days`, in seconds. Raises ValueError."""
    found = re.fullmatch(r"\s*([0-9]{1,6})\s*(minute|hour|day|week)s?\s*", text)
    if not found:
        raise ValueError("write an age as 90 minutes, 12 hours, 32 days or 2 weeks.")
    return int(timedelta(seconds=int(found[1]) * SPANS[found[2]]).total_seconds())


def _start_of(text: str) -> int:
    """Nanoseconds since 1970 at which a day begins, by UTC: a selection means the same wherever it
    is read. Raises ValueError.
    """
    try:
        day = date.fromisoformat(text.strip())
    except ValueError:
        raise ValueError("write a date as 2026-03-02.") from None
    return int(datetime(day.year, day.month, day.day, tzinfo=UTC).timestamp()) * 10**9


def _compile(
    patterns: Sequence[str], field: str, ignore_case: bool, problems: list[dict[str, str]]
) -> Any:
    good = []
    if len(patterns) > MOST_PATTERNS:
        message = f"{field} has over {MOST_PATTERNS} patterns. Say it with fewer."
        problems.append({"field": field, "code": "pattern.too-many", "message": message})
        return None
    for pattern in patterns:
        try:
            tokens_of(pattern, ignore_case=ignore_case)
        except ValueError as exc:
            message = f"Pattern {pattern!r} is malformed: {exc}."
            problems.append({"field": field, "code": "pattern.malformed", "message": message})
        else:
            good.append(pattern)
    if good:
        return _compiled(tuple(good), ignore_case)
    return None


@lru_cache(maxsize=256)
def _compiled(patterns: tuple[str, ...], ignore_case: bool) -> Any:
    return compiled(patterns, ignore_case=ignore_case)
