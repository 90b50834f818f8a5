"""Short digests of what is known of an object, and very many of them held in little memory."""

from __future__ import annotations

import hashlib
from array import array
from bisect import bisect_left

NUMBERS = "Q"  # of an array of digests


def digest_of(leg: int, key: bytes, *known: str) -> int:
    """Of 63 bits, so that databases hold it as a number."""
    text = b"\0".join([b"%d" % leg, key, *(each.encode() for each in known)])
    return int.from_bytes(hashlib.blake2b(text, digest_size=8).digest()) >> 1


def is_among(known: array[int], digest: int) -> bool:
    """known: in order."""
    at = bisect_left(known, digest)
    return at < len(known) and known[at] == digest
