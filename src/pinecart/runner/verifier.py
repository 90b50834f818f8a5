"""The far side once more, after a leg has acted."""

from __future__ import annotations

import asyncio
from functools import partial
from typing import NamedTuple

from pinecart.core.columns import EntryPage
from pinecart.core.entries import Likeness, likeness
from pinecart.core.lifecycle import Phase
from pinecart.core.listing import Found, Together
from pinecart.runner.leg_context import Ledger, LegContext
from pinecart.runner.leg_tally import LegTally
from pinecart.runner.listing_streams import far_entries, leg_rows, nothing
from pinecart.runner.name_folding import OneName, matched
from pinecart.runner.plan import Plan


class FarSide(NamedTuple):
    """What the destination holds. differences: how much of it is not as intended."""

    objects: int = 0
    bytes: int = 0
    differences: int = 0

    def with_one(self, found: Found) -> FarSide:
        """One key more, as it lies there and as the ledger has it."""
        _, _, there, row = found
        objects, size, differences = self
        if there is not None:
            objects += not there.is_folder
            size += there.size
        if row is not None and (there is None or likeness(there, row.there) is Likeness.DIFFERENT):
            differences += 1
        return FarSide(objects, size, differences)

    def with_many_as_remembered(self, page: EntryPage) -> FarSide:
        return self._replace(
            objects=self.objects + len(page), bytes=self.bytes + sum(page.columns.size)
        )


class Verifier:
    def __init__(self, leg: LegContext, ledger: Ledger, tally: LegTally, names: OneName) -> None:
        """names: which spellings are one name at the far side, so that none is told as missing."""
        self._leg = leg
        self._ledger = ledger
        self._tally = tally
        self._names = names

    async def look_again(self, plan: Plan) -> FarSide:
        """The destination, listed once more against the ledger.

        Where nothing was done, the plan's own listing has just said it.
        """
        not_done = self._tally.not_done
        if not self._tally.acted:
            differences = plan.changed_there + not_done.total()
            return FarSide(plan.far_objects, plan.far_bytes, differences)
        self._tally.phase(Phase.CHECKING)
        seen = await self._listed()
        return seen._replace(differences=seen.differences + not_done[False])

    async def _listed(self) -> FarSide:
        leg = self._leg
        seen = FarSide()
        far = far_entries(leg.target, leg.one, partial(self._ledger.cuts, leg.number))
        rows = leg_rows(self._ledger.pages(leg.number), leg.one)
        async for some in matched(nothing(), far, rows, self._names):
            if isinstance(some, Together) and (page := _as_remembered(some)) is not None:
                seen = seen.with_many_as_remembered(page)
            else:
                for found in some:
                    seen = seen.with_one(found)
            await asyncio.sleep(0)
        return seen


def _as_remembered(some: Together) -> EntryPage | None:
    """The far side's entries, if all are files and just as the ledger has them."""
    page = EntryPage.of(some.theres)
    if page.are_plain() and page.all_as(some.rows.columns.there):
        return page
    return None
