"""What a leg would do, counted at a glance: while somebody still thinks about its rules. Nothing is
compared by content, and nothing is written; what only a look at contents could tell is counted as
such.
"""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import AsyncIterator
from typing import NamedTuple

from pinecart.core.columns import Rows
from pinecart.core.decide import Intent, Look, consider
from pinecart.core.entries import Entry, Row
from pinecart.runner.leg_context import LegContext
from pinecart.runner.listing_streams import far_entries, leg_rows, source_entries
from pinecart.runner.name_folding import matched, one_name

OFFERED = (Intent.TOP_UP, Intent.RENEW, Intent.MIRROR, Intent.HAND_OVER)
TO_COMPARE = "compare"  # only a look at the contents tells
MOST_NAMES = 20_000
MOST_S = 2.5


class Amount:
    """Files, and their bytes."""

    def __init__(self) -> None:
        self.objects = self.bytes = 0

    def add(self, entry: Entry) -> None:
        self.objects += 1
        self.bytes += entry.size


class QuickCount:
    """source, there: what lies at either side.   left_out: rule → files that it leaves out.
    by_intent: for each intent so many files of each decision, or to be compared.   is_all: whether
    everything was seen; else it is of the first names in their order.   example: the first file
    that is taken, as it is called at the source and there.
    """

    def __init__(self) -> None:
        self.source = Amount()
        self.there = Amount()
        self.left_out: Counter[str] = Counter()
        self.by_intent: dict[Intent, Counter[str]] = {intent: Counter() for intent in OFFERED}
        self.is_all = True
        self.example: tuple[bytes, bytes] | None = None


class _Known(NamedTuple):
    """What is known of one name."""

    key: bytes
    entry: Entry | None
    there: Entry | None
    row: Row | None


async def quick_count(
    leg: LegContext, rows: AsyncIterator[Rows], most: int = MOST_NAMES, seconds: float = MOST_S
) -> QuickCount:
    """most: names at the source and there.   seconds: no longer than that. Raises StoreError."""
    found = QuickCount()
    names = 0
    until = time.monotonic() + seconds
    for side in (leg.source, leg.target):
        await side.store.check_place(side.prefix)
    here = source_entries(leg.source, leg.one, leg.renaming, leg.scratch, leg.folders_taken)
    there = far_entries(leg.target, leg.one)
    one = await one_name(leg.source, leg.target, leg.scratch, only_look=True)
    now_ns = time.time_ns()
    async for some in matched(here, there, leg_rows(rows, leg.one), one):
        for name in some:
            _count(leg, _Known(*name), found, now_ns)
            names += 1
        if names >= most or time.monotonic() > until:
            found.is_all = False
            break
    return found


def _count(leg: LegContext, name: _Known, found: QuickCount, now_ns: int) -> None:
    key, entry, there, row = name
    if (entry and entry.is_folder) or (there and there.is_folder):
        return
    if entry is not None:
        found.source.add(entry)
    if there is not None:
        found.there.add(there)
    asked = entry.source_key if entry else key
    why_not = leg.selection.why_not(asked, entry, now_ns)
    if why_not:
        found.left_out[why_not.value] += entry is not None
        return
    if entry is not None and found.example is None:
        found.example = (asked, key)
    for intent, counts in found.by_intent.items():
        rules = leg.rules._replace(intent=intent)
        verdict = consider(entry, there, row, rules)
        decision = TO_COMPARE if isinstance(verdict, Look) else verdict.decision.value
        counts[decision] += 1
