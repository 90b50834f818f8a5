"""The trail's chain: each entry is bound to the one before it by HMAC-SHA-256 (RFC 2104).

Without the key nobody can alter, add, take away or exchange an entry so that the chain still holds;
that its tail was cut shows against a head that was kept elsewhere.
"""

from __future__ import annotations

import hmac
import json
from collections.abc import Iterable
from typing import Any, NamedTuple

HEAD_FORM = "pinecart-trail-head/1"
MOST_FAULTS = 20
encode = json.JSONEncoder(separators=(",", ":"), sort_keys=True).encode


class ChainEntry(NamedTuple):
    """number: from 1, without a gap.   digest: of this entry and all before it, hexadecimal."""

    number: int
    at: str
    who: str
    address: str
    action: str
    subject: str
    facts: Any
    digest: str


class ChainHead(NamedTuple):
    """How far the trail had come at a time."""

    lines: int
    digest: str


class ChainFault(NamedTuple):
    """number: of the entry at which it shows."""

    number: int
    words: str


class Verified(NamedTuple):
    """head: as far as the trail goes.   faults: the first of them."""

    head: ChainHead
    faults: list[ChainFault]


class Chain:
    """What binds entries together: a key."""

    def __init__(self, key: bytes) -> None:
        self._begun = hmac.new(key, digestmod="sha256")

    def link(self, before: str, entry: ChainEntry) -> str:
        """The digest of an entry. before: the one of the entry before it; empty: it is the
        first.
        """
        made = self._begun.copy()
        made.update(encode([before, *entry[:-1]]).encode())
        return made.hexdigest()


def link(key: bytes, before: str, entry: ChainEntry) -> str:
    """Of one entry alone."""
    return Chain(key).link(before, entry)


def verify(key: bytes, entries: Iterable[ChainEntry], heads: Iterable[ChainHead] = ()) -> Verified:
    """entries: all, in the order of their numbers.   heads: what the trail must have been."""
    faults = list[ChainFault]()
    wanted = {head.lines: head.digest for head in heads}
    number = 0
    before = ""
    chain = Chain(key)
    for entry in entries:
        number += 1
        if entry.number != number:
            faults.append(
                ChainFault(number, f"{entry.number - number} entries are missing before it.")
            )
            number = entry.number
        if chain.link(before, entry) != entry.digest:
            faults.append(ChainFault(number, "It isn't as it was written, or doesn't belong here."))
        if number in wanted and wanted.pop(number) != entry.digest:
            faults.append(ChainFault(number, "Another entry stood here when its head was signed."))
        before = entry.digest
        if len(faults) >= MOST_FAULTS:
            break
    else:
        cut = [count for count in wanted if count > number]
        if cut:
            words = f"The trail ends here, and had {max(cut):,} entries: its tail was cut."
            faults.append(ChainFault(number, words))
        faults += [
            ChainFault(count, "The entry of a signed head is missing.")
            for count in wanted
            if 0 < count <= number
        ]
    return Verified(ChainHead(number, before), faults)
