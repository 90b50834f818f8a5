"""Comparing two sides and the ledger by name and size, without transferring anything.

"here" is the source.
"""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple

from pinecart.core.entries import Entry, Likeness, Row, likeness


class Finding(StrEnum):
    ONLY_HERE = "only-here"
    ONLY_THERE = "only-there"
    DIFFERS = "differs"
    CHANGED_SINCE = "changed-since"
    UNREADABLE = "unreadable"


class Found(NamedTuple):
    finding: Finding
    detail: str


def compare(here: Entry | None, there: Entry | None, row: Row | None) -> Found | None:
    """What an audit says of one key; None: both sides are alike as far as name, size and memory
    tell.
    """
    if here is not None and here.fault:
        return Found(Finding.UNREADABLE, here.fault)
    if here is None:
        return (
            None if there is None else Found(Finding.ONLY_THERE, _since(row, "its source is gone"))
        )
    if there is None:
        return Found(Finding.ONLY_HERE, _since(row, "it was placed there, and is gone"))
    if here.size != there.size:
        return Found(Finding.DIFFERS, f"{here.size} bytes here, {there.size} there")
    if row is None:
        return None
    if likeness(there, row.there) is Likeness.DIFFERENT:
        return Found(Finding.CHANGED_SINCE, "changed there since it was placed")
    if likeness(here, row.source) is Likeness.DIFFERENT:
        return Found(Finding.CHANGED_SINCE, "changed here since it was copied")
    return None


def _since(row: Row | None, known: str) -> str:
    return known if row else "never carried by this job"
