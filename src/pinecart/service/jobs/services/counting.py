"""What a definition that isn't saved yet would do, counted at a glance."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from typing import Any, NamedTuple

from pinecart.core.definition import Definition, Leg
from pinecart.core.errors import StoreError
from pinecart.drivers import open_store
from pinecart.runner.quick_count import QuickCount, quick_count
from pinecart.service.config.rights import Actor, Right
from pinecart.service.jobs.services.checking import checked_definition
from pinecart.service.jobs.services.explaining import context_of, remembered
from pinecart.service.settings.selectors import as_it_runs
from pinecart.service.stores.selectors import spec_of, store_for


class LegCounted(NamedTuple):
    """counted: None where a store could not be asked; then `message` says why."""

    leg: Leg
    counted: QuickCount | None
    message: str = ""


def count_draft(actor: Actor, given: Mapping[str, Any]) -> list[LegCounted]:
    """Of the legs that are on. Raises Invalid, NotAllowed."""
    return count_definition(actor, checked_definition(actor, given))


def count_definition(actor: Actor, checked: Definition) -> list[LegCounted]:
    """Raises NotAllowed."""
    definition = as_it_runs(checked)
    return [_of_leg(actor, definition, leg) for leg in definition.legs if leg.is_on]


def _of_leg(actor: Actor, definition: Definition, leg: Leg) -> LegCounted:
    """A store that can't be reached is told for its leg alone; the others are counted
    nevertheless.
    """
    records = [
        store_for(actor, place.store, Right.LOOK, "looking at files")
        for place in (leg.source, leg.target)
    ]
    specs = {record.name: spec_of(record) for record in records}
    try:
        return LegCounted(leg, asyncio.run(_counted(definition, leg, specs)))
    except StoreError as exc:
        return LegCounted(leg, None, exc.message)


async def _counted(definition: Definition, leg: Leg, specs: Mapping[str, Any]) -> QuickCount:
    """Without changing anything: the leg is listed and compared with what the ledger remembers of
    it, each store opened just for that.
    """
    stores = {name: open_store(spec) for name, spec in specs.items()}
    try:
        rows = remembered(definition.job, leg, stores)
        return await quick_count(context_of(definition, leg, stores), rows)
    finally:
        for store in stores.values():
            await store.close()
