"""What a preview would do, for a run that is to do just that."""

from __future__ import annotations

from array import array
from typing import NamedTuple

from pinecart.core.digests import digest_of, is_among
from pinecart.core.entries import fingerprint
from pinecart.runner.decided_items import Item


class Promise(NamedTuple):
    """seen, keys: digests in order, of each decision with what it was made of, and of its key."""

    seen: array[int]
    keys: array[int]

    def holds_for(self, leg: int, item: Item) -> bool:
        """Whether the preview saw the same at both sides, and would do the same."""
        return is_among(self.seen, digest_seen(leg, item))

    def knows(self, leg: int, key: bytes) -> bool:
        """Whether the preview would do anything to this key."""
        return is_among(self.keys, digest_of(leg, key))


def digest_seen(leg: int, item: Item) -> int:
    """Of a decision, and of what it was made of."""
    here, there = (fingerprint(entry) if entry else "" for entry in (item.entry, item.far))
    return digest_of(leg, item.key, item.verdict.decision.value, here, there)
