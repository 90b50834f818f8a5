"""Why one file of a job is carried, or isn't, and what was done to it before."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator, Mapping
from typing import NamedTuple

from pinecart.core.columns import Rows
from pinecart.core.definition import Definition, Leg
from pinecart.core.places import key_of_text
from pinecart.core.ports import Store
from pinecart.core.retry import Retry
from pinecart.drivers import open_store
from pinecart.json_object import JsonObject
from pinecart.runner.explanation import Explanation, explain, look
from pinecart.runner.leg_context import LegContext
from pinecart.runner.name_folding import one_name
from pinecart.runner.scratch import Scratch
from pinecart.runner.side import Side, identity_of
from pinecart.runner.youngest_there import YoungestThere, youngest_there
from pinecart.service.config.rights import Actor, Right
from pinecart.service.config.settings import STATE
from pinecart.service.jobs.selectors import definition_of, job_named
from pinecart.service.ledger.selectors import ledger_pages, rows_of, scope_known
from pinecart.service.runs.selectors.records import records_of_key
from pinecart.service.settings.selectors import as_it_runs
from pinecart.service.stores.selectors import spec_of, store_for

YOUNGEST_S = 20  # seconds that the far side is listed for, to find the youngest file there


class LegExplained(NamedTuple):
    """number: of the leg, from 1.   records: what runs of the job did to it, the newest first."""

    number: int
    leg: Leg
    explanation: Explanation
    records: list[JsonObject]


def explain_file(actor: Actor, name: str, text: str) -> list[LegExplained]:
    """Leg by leg. text: the file's name at the source, or, if it isn't there, at the destination.

    Raises NotFound, NotAllowed, Invalid, StoreError.
    """
    definition = as_it_runs(definition_of(job_named(name, actor)))
    key = key_of_text(text, field="key")
    specs = {}
    for leg in definition.legs:
        for place in (leg.source, leg.target):
            record = store_for(actor, place.store, Right.LOOK, "looking at files")
            specs[place.store] = spec_of(record)
    with asyncio.Runner() as loop:
        stores = {store: open_store(spec) for store, spec in specs.items()}
        try:
            return [
                _of_leg(definition, number, key, stores, loop)
                for number in range(len(definition.legs))
            ]
        finally:
            loop.run(_close(stores))


def _of_leg(
    definition: Definition,
    number: int,
    key: bytes,
    stores: dict[str, Store],
    loop: asyncio.Runner,
) -> LegExplained:
    leg = definition.legs[number]
    context = context_of(definition, leg, stores)
    sides = loop.run(look(context, key))
    scope = scope_known(definition.job, identity_of(leg, stores))
    row = next(iter(rows_of([scope], [sides.key])), None)
    youngest = loop.run(_youngest(context, remembered(definition.job, leg, stores)))
    options = dict(leg.options)
    explanation = loop.run(explain(context, sides, row, options, time.time_ns(), youngest))
    records = records_of_key(definition.job, number, {key, sides.key})
    return LegExplained(number + 1, leg, explanation, records)


async def _youngest(context: LegContext, rows: AsyncIterator[Rows]) -> YoungestThere | None:
    """None: no rule asks for it, or the listing takes longer than somebody waits for an answer."""
    if not context.younger_than:
        return None
    names = await one_name(context.source, context.target, context.scratch, only_look=True)
    try:
        async with asyncio.timeout(YOUNGEST_S):
            return await youngest_there(context, rows, names)
    except TimeoutError:
        return None


async def remembered(job: str, leg: Leg, stores: Mapping[str, Store]) -> AsyncIterator[Rows]:
    """What a job of this name remembers between these places."""
    identity = identity_of(leg, stores)
    scope = await asyncio.to_thread(scope_known, job, identity)
    if not scope:
        return
    after = b""
    while pages := await asyncio.to_thread(ledger_pages, scope, after):
        for page in pages:
            yield page
        keys = pages[-1].columns.key
        after = keys[-1]


async def _close(stores: dict[str, Store]) -> None:
    for store in stores.values():
        await store.close()


def context_of(definition: Definition, leg: Leg, stores: dict[str, Store]) -> LegContext:
    """As much of it as a decision needs: nothing is done here."""
    return LegContext(
        run=0,
        number=0,
        source=Side(stores[leg.source.store], leg.read_place.path),
        target=Side(stores[leg.target.store], leg.target.path),
        selection=leg.selection,
        rules=definition.rules,
        only_plan=True,
        concurrency=1,
        retry=Retry(),
        stopping=lambda: False,
        log=lambda action, message, **fields: None,
        scratch=Scratch(str(STATE.scratch)),
        stamp="",
        renaming=leg.renaming,
        keep=definition.keep,
        younger_than=leg.younger_than,
    )
