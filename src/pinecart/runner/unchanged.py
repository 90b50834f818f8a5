"""What is as remembered at both sides: most of what there is, so that it must cost little."""

from __future__ import annotations

from pinecart.core.columns import EntryPage
from pinecart.core.decide import Comparison, Intent
from pinecart.core.entries import fingerprint
from pinecart.core.listing import Found, Together
from pinecart.core.selection import Selection
from pinecart.runner.leg_context import LegContext


def is_left_if_unchanged(leg: LegContext) -> bool:
    """Whether what is as remembered is left, whatever else: then it needs no closer look."""
    selection = leg.selection
    rules = leg.rules
    by_name = selection == Selection(selection.take, selection.leave_out)
    compares_memory = rules.compare is Comparison.SINCE_LAST_RUN
    clears = rules.intent in (Intent.HAND_OVER, Intent.REMOVE)
    return by_name and compares_memory and not clears


def unchanged_bytes(leg: LegContext, found: Found) -> int | None:
    """Its bytes, if it is taken and as remembered at both sides. None: it needs a decision."""
    _, entry, there, row = found
    if entry is None or there is None or row is None:
        return None
    settled = not (row.racy or row.cleared or entry.fault or row.run == leg.run)
    if not settled or fingerprint(entry) != row.source or fingerprint(there) != row.there:
        return None
    if entry.is_folder or not leg.selection.takes(entry.source_key):
        return None
    size: int = entry.size
    return size


def all_unchanged_bytes(leg: LegContext, some: Together) -> int | None:
    """Their bytes, if all of them are taken and as remembered. None: look at each."""
    if not some.sources:
        return None
    rows = some.rows
    sources = EntryPage.of(some.sources)
    theres = EntryPage.of(some.theres)
    if not rows.all_settled(leg.run) or not sources.are_plain():
        return None
    if not sources.all_as(rows.columns.source):
        return None
    if not theres.all_as(rows.columns.there):
        return None
    keys = sources.source_keys()
    if not leg.selection.takes_all(keys):
        return None
    return sum(sources.columns.size)


def was_sent_already(leg: LegContext, found: Found) -> bool:
    """By this very run, before it was held or interrupted, where the job sends all in every run."""
    _, entry, there, row = found
    if leg.rules.compare is not Comparison.ALWAYS:
        return False
    if entry is None or there is None or row is None:
        return False
    if row.run != leg.run or row.cleared:
        return False
    same_source = fingerprint(entry) == row.source
    return same_source and fingerprint(there) == row.there
