"""The guards: limits that hold a class of decisions of one leg until a person says yes to the very
list that was seen.

A guard holds only its own class; copies that aren't concerned are carried out first.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from enum import StrEnum
from typing import NamedTuple

LEAST = 20  # replaced or lost objects below which a share says nothing
ALL_BITS = 1 << 256


class HeldClass(StrEnum):
    """What a guard can hold."""

    REMOVALS = "removals"
    REPLACEMENTS = "replacements"
    MISSING = "missing"  # what was placed and is gone there would be copied again


class Limits(NamedTuple):
    """removals: so many at most.   The others: percent of the objects that are known."""

    removals: int = 100
    removals_percent: int = 10
    replacements_percent: int = 50
    lost_percent: int = 30


class Counts(NamedTuple):
    """What a complete plan knows of its leg. rows: in the ledger.   foreign: removals of objects
    without a ledger row.

    fresh: the leg's first run, or the first since its places or its selection were changed.
    asked: a removal run.
    """

    rows: int
    source: int
    far: int
    removals: int = 0
    foreign: int = 0
    replacements: int = 0
    missing: int = 0
    fresh: bool = False
    asked: bool = False


class Hold(NamedTuple):
    """guard: which limit.   message: a sentence with the numbers."""

    what: HeldClass
    guard: str
    message: str


def holds(counts: Counts, limits: Limits) -> list[Hold]:
    """At most one hold for each class: the first guard that applies."""
    found = [_removals(counts, limits), _replacements(counts, limits), _missing(counts, limits)]
    return [hold for hold in found if hold]


def _removals(c: Counts, limits: Limits) -> Hold | None:
    if not c.removals:
        return None
    files = "1 file" if c.removals == 1 else f"{c.removals:,} files"
    if c.asked:
        return Hold(HeldClass.REMOVALS, "asked", f"{files} would be removed.")
    if not c.source and c.rows:
        why = (
            f"The source is empty, and {c.rows:,} files are remembered from it. Is its disk "
            "mounted?"
        )
        return Hold(HeldClass.REMOVALS, "source-empty", f"{why} {files} would be removed.")
    if c.foreign:
        why = f"{c.foreign:,} of them were never carried by this job: others' files may lie there."
        return Hold(HeldClass.REMOVALS, "not-ours", f"{files} would be removed. {why}")
    if c.fresh:
        why = (
            "It is the first run since this job was defined, or since its places or selection "
            "were changed."
        )
        return Hold(HeldClass.REMOVALS, "first-run", f"{files} would be removed. {why}")
    if c.removals > limits.removals:
        return Hold(
            HeldClass.REMOVALS,
            "removals",
            f"{files} would be removed: more than the limit of {limits.removals:,}.",
        )
    if c.removals * 100 > c.rows * limits.removals_percent:
        share = f"more than {limits.removals_percent} % of the {c.rows:,} that are known"
        return Hold(HeldClass.REMOVALS, "removals-percent", f"{files} would be removed: {share}.")
    return None


def _replacements(c: Counts, limits: Limits) -> Hold | None:
    known = c.far if c.fresh else c.rows
    if c.replacements < LEAST or c.replacements * 100 <= known * limits.replacements_percent:
        return None
    message = (
        f"{c.replacements:,} files would be replaced: more than {limits.replacements_percent} % "
        f"of the {known:,} "
    )
    message += "that lie there." if c.fresh else "that are known. Were they changed on purpose?"
    return Hold(HeldClass.REPLACEMENTS, "replacements-percent", message)


def _missing(c: Counts, limits: Limits) -> Hold | None:
    """What was placed and is gone, by share of all that was placed: one lost disk looks so, people
    rarely do. None: it is little.
    """
    if c.missing < LEAST or c.missing * 100 <= c.rows * limits.lost_percent:
        return None
    message = (
        f"{c.missing:,} of {c.rows:,} files that were placed there are gone. Is its disk "
        "mounted? They would be copied again."
    )
    return Hold(HeldClass.MISSING, "lost-percent", message)


def list_digest(lines: Iterable[bytes]) -> str:
    """The digest of a list of decisions, whatever their order."""
    total = 0
    count = 0
    for line in lines:
        digest = hashlib.sha256(line).digest()
        total = (total + int.from_bytes(digest)) % ALL_BITS
        count += 1
    text = f"{count}:{total}"
    whole = hashlib.sha256(text.encode()).hexdigest()
    return whole[:16]
