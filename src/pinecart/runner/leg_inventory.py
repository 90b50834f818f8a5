"""Lists one place and sums it up: nothing is read, and nothing is written."""

from __future__ import annotations

import time

from pinecart.core.inventory import Inventory
from pinecart.core.lifecycle import Phase
from pinecart.json_object import JsonObject
from pinecart.runner.leg_context import LegContext
from pinecart.runner.listing_streams import source_entries
from pinecart.runner.progress import Progress


async def inventory_of(leg: LegContext, progress: Progress) -> JsonObject | None:
    """Of the leg's source; None: it was stopped before it had seen all.

    Raises StoreError, Incomplete where a listing is not to be trusted.
    """
    progress.enter(Phase.CONNECTING)
    await leg.source.store.check_place(leg.source.prefix)
    progress.enter(Phase.LISTING)
    inventory = Inventory(time.time_ns())
    async for page in source_entries(leg.source, None, None, leg.scratch):
        if leg.stopping():
            return None
        for entry in page:
            if not entry.is_folder:
                inventory.add(entry.key, entry.size, entry.modified_ns)
        progress.listed += len(page)
    progress.listing_complete = True
    return inventory.told()
