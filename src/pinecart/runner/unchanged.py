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
    by_name = leg.selection == Selection(leg.selection.take, leg.selection.leave_out)
    compares_memory = leg.rules.compare is Comparison.SINCE_LAST_RUN
    return by_name and compares_memory and leg.rules.intent not in (Intent.HAND_OVER, Intent.REMOVE)


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
    sources, theres = EntryPage.of(some.sources), EntryPage.of(some.theres)
    if not (some.rows.all_settled(leg.run) and sources.are_plain()):
        return None
    if not (sources.all_as(some.rows.columns.source) and theres.all_as(some.rows.columns.there)):
        return None
    return sum(sources.columns.size) if leg.selection.takes_all(sources.source_keys()) else None


def was_sent_already(leg: LegContext, found: Found) -> bool:
    """By this very run, before it was held or interrupted, where the job sends all in every run."""
    _, entry, there, row = found
    if leg.rules.compare is not Comparison.ALWAYS or entry is None or there is None or row is None:
        return False
    as_it_was = fingerprint(entry) == row.source and fingerprint(there) == row.there
    return row.run == leg.run and not row.cleared and as_it_was
