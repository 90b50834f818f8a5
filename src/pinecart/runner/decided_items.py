"""One decided object on its way through a leg, and the scratch file in which decisions wait until
the plan is complete.
"""

from __future__ import annotations

import json
from base64 import b64decode, b64encode
from collections.abc import Iterator
from typing import IO, NamedTuple

from pinecart.core.batch import from_plain, plain
from pinecart.core.decide import Decision, Reason, Verdict
from pinecart.core.entries import Entry, Row, fingerprint
from pinecart.core.guards import HeldClass
from pinecart.core.ports import HELD_BYTES


class Item(NamedTuple):
    """One key with what is known of it and what was decided.

    remembered: the source's fingerprint in its ledger row, once that row is no longer at hand.
    """

    key: bytes
    entry: Entry | None
    far: Entry | None
    row: Row | None
    verdict: Verdict
    crc: str = ""
    proof: str = ""
    remembered: str = ""


class HeldList(NamedTuple):
    """A class of decisions that waits for a person, and the digest of its list."""

    leg: int
    what: str
    guard: str
    message: str
    objects: int
    bytes: int
    digest: str


def of_folder(item: Item) -> bool:
    entry = item.entry or item.far
    return entry is not None and entry.is_folder


def is_large(item: Item) -> bool:
    return item.entry is not None and item.entry.size > HELD_BYTES


def class_of(verdict: Verdict) -> HeldClass | None:
    """The class of decisions that a guard may hold this one with."""
    if verdict.decision is Decision.REMOVE:
        return HeldClass.REMOVALS
    if verdict.decision is Decision.REPLACE:
        if verdict.reason is Reason.ALWAYS:
            return None
        return HeldClass.REPLACEMENTS  # what the job asks for every time
    lost = verdict.decision is Decision.COPY and verdict.reason in (
        Reason.MISSING_THERE,
        Reason.CHANGED,
    )
    if lost:
        return HeldClass.MISSING
    return None


def line_of(item: Item) -> bytes:
    """One decision as it counts in the digest of a list."""
    sides = [fingerprint(e) if e else "" for e in (item.entry, item.far)]
    return json.dumps(
        [b64encode(item.key).decode(), item.verdict.decision, item.verdict.reason, *sides]
    ).encode()


def spill_to(spill: IO[str], item: Item) -> None:
    told = [
        b64encode(item.key).decode(),
        plain(item.entry),
        plain(item.far),
        *item.verdict,
        item.crc,
        item.proof,
        item.row.source if item.row else item.remembered,
    ]
    spill.write(json.dumps(told) + "\n")


def spilled(spill: IO[str], wanted: Decision | None) -> Iterator[Item]:
    """Read the spilled decisions of one kind (None: all) back. The file is read line by line, never
    whole.
    """
    spill.seek(0)
    for line in iter(spill.readline, ""):
        key_text, entry, far, decision, reason, problem, *rest = json.loads(line)
        if wanted is not None and decision != wanted.value:
            continue
        key = b64decode(key_text)
        verdict = Verdict(Decision(decision), Reason(reason), problem)
        here = from_plain(key, entry)
        there = from_plain(key, far)
        yield Item(key, here, there, None, verdict, *rest)
