"""Comparing two sides and the ledger without transferring anything: by name and size, by what goes
with a file, or by content.

"here" is the source.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from enum import StrEnum
from typing import Any, NamedTuple

from pinecart.core.entries import Entry, Likeness, Row, likeness
from pinecart.json_object import JsonObject


class Finding(StrEnum):
    ONLY_HERE = "only-here"
    ONLY_THERE = "only-there"
    DIFFERS = "differs"
    CHANGED_SINCE = "changed-since"
    UNREADABLE = "unreadable"


class Depth(StrEnum):
    """Each looks at what the one before looks at, too."""

    NAMES = "names"
    METADATA = "metadata"
    CONTENT = "content"


DEPTH_WORDS = {
    Depth.NAMES: "name, size and what is remembered",
    Depth.METADATA: "name, size, what is remembered, and what goes with each file",
    Depth.CONTENT: "name, size, what is remembered, and content",
}
CERTAINTY = 0.95


class AuditRules(NamedTuple):
    """How closely an audit looks. sample: of so many in a hundred files what isn't told by a
    listing is looked at.   seed: which ones these are.
    """

    depth: Depth = Depth.NAMES
    sample: int = 100
    seed: int = 0

    def looks_at(self, key: bytes) -> bool:
        """Whether this file is in the sample: always the same for one seed."""
        if self.sample >= 100:
            return True
        digest = hashlib.blake2b(b"%d|%b" % (self.seed, key), digest_size=8).digest()
        return int.from_bytes(digest) % 10_000 < self.sample * 100

    def as_mapping(self) -> JsonObject:
        return {"depth": self.depth.value, "sample": self.sample, "seed": self.seed}


def read_rules(given: Mapping[str, Any]) -> AuditRules:
    """How thorough an audit is, of a form that was checked before; what it leaves out is as
    usual. sample: percent. seed: which objects the sample has.
    """
    return AuditRules(
        Depth(given.get("depth") or Depth.NAMES),
        int(given.get("sample") or 100),
        int(given.get("seed") or 0),
    )


def could_differ(looked_at: int) -> float:
    """If none of a random sample of so many differs: the share of all, up to 1, that could differ
    and would with 95 % certainty have shown.
    """
    if looked_at < 1:
        return 1.0
    return 1 - (1 - CERTAINTY) ** (1 / looked_at)


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
        if there is None:
            return None
        return Found(Finding.ONLY_THERE, _since(row, "its source is gone"))
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
    if row:
        return known
    return "never carried by this job"
