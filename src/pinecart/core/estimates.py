"""What a preview's run would take: time, by what runs of its job took; requests, by what it would
do; and their price.
"""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal, InvalidOperation
from typing import NamedTuple

from pinecart.core.ports import HELD_BYTES

PAGE = 1000  # names of one page of a listing
GIB = 1 << 30


class Took(NamedTuple):
    """What one run did, and how long it took."""

    objects: int
    bytes: int
    seconds: float


class Doing(NamedTuple):
    """What a run would do. carried: files, and their bytes.   removed: at the destination, or
    cleared at the source.   aside: of what is replaced or removed so many are set aside before.
    listed: names at both sides.   in_one_system: copied by the store itself.
    """

    carried: int
    bytes: int
    removed: int
    cleared: int
    aside: int
    listed: int
    in_one_system: bool = False


def seconds_for(doing: Doing, past: Sequence[Took]) -> float | None:
    """By least squares over the past: a second for each file, a second for each byte, and neither
    under zero. None: nothing is known of how long such a thing takes.
    """
    oo = sum(t.objects * t.objects for t in past)
    ob = sum(t.objects * t.bytes for t in past)
    bb = sum(t.bytes * t.bytes for t in past)
    ot = sum(t.objects * t.seconds for t in past)
    bt = sum(t.bytes * t.seconds for t in past)
    if not oo:
        return None
    each = ot / oo
    byte = 0.0
    whole = oo * bb - ob * ob
    if whole > 1e-6 * oo * bb:
        both = (ot * bb - bt * ob) / whole, (bt * oo - ot * ob) / whole
        if min(both) >= 0:
            each, byte = both
        elif both[0] < 0:
            each = 0.0
            byte = bt / bb
    acted = doing.carried + doing.removed + doing.cleared
    return each * acted + byte * doing.bytes


def requests_at_source(doing: Doing) -> int:
    """Of a store that is asked over a line: its listing, and each file, or piece of a large one."""
    read = 0 if doing.in_one_system else doing.carried + _pieces(doing)
    return _pages(doing.listed) + read + 2 * doing.cleared


def requests_at_target(doing: Doing) -> int:
    written = doing.carried + _pieces(doing)
    return _pages(doing.listed) + written + 2 * doing.removed + 2 * doing.aside


def _pages(names: int) -> int:
    return -(-names // PAGE)


def _pieces(doing: Doing) -> int:
    """Of files too large to go whole: as if all bytes were of such, beyond one request a file."""
    return max(doing.bytes // HELD_BYTES - doing.carried, 0)


def price_of(text: str) -> Decimal | None:
    """`0.0004`, of whatever currency. None: it is no price."""
    try:
        found = Decimal(text.strip())
    except InvalidOperation:
        return None
    if found.is_finite() and found >= 0:
        return found
    return None


def cost_of(requests: int, bytes_out: int, of_1000: str, of_gib: str) -> Decimal | None:
    """None: no price was given."""
    request = price_of(of_1000 or "")
    gib = price_of(of_gib or "")
    if request is None and gib is None:
        return None
    of_requests = (request or Decimal(0)) * requests / 1000
    of_bytes = (gib or Decimal(0)) * bytes_out / GIB
    return of_requests + of_bytes
