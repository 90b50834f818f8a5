"""What a preview's run would take, by its job's own past and by the prices of its stores."""

from __future__ import annotations

from collections import Counter

from pinecart.core.estimates import (
    Doing,
    cost_of,
    requests_at_source,
    requests_at_target,
    seconds_for,
)
from pinecart.core.places import parse_location
from pinecart.drivers import DRIVERS
from pinecart.json_object import JsonObject
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.selectors import last_took
from pinecart.service.stores.selectors import find_store


def estimate(run: RunFacts, told: JsonObject) -> JsonObject:
    """told: the preview. seconds: None, where no run of its job has done anything."""
    doing = _doing(run, told)
    past = last_took(run.job)
    seconds = seconds_for(doing, past)
    return {
        "seconds": None if seconds is None else round(seconds, 1),
        "by_runs": len(past),
        "stores": _stores(run, doing),
    }


def _doing(run: RunFacts, told: JsonObject) -> Doing:
    totals = told["totals"]
    carried = totals["copy"]["objects"] + totals["replace"]["objects"]
    overwritten = totals["replace"]["objects"] + totals["remove"]["objects"]
    return Doing(
        carried=carried,
        bytes=totals["copy"]["bytes"] + totals["replace"]["bytes"],
        removed=totals["remove"]["objects"],
        cleared=totals["clear"]["objects"],
        aside=overwritten if told["set_aside"] else 0,
        listed=(run.progress or {}).get("listed", 0),
    )


def _stores(run: RunFacts, doing: Doing) -> list[JsonObject]:
    """Of each store that is asked over a line: requests, and their price where one was given."""
    leg = run.definition["legs"][0]
    source = parse_location(leg["from"]).store
    target = parse_location(leg["to"]).store
    requests = Counter({source: requests_at_source(doing)})
    requests[target] += requests_at_target(doing)
    found = []
    for name, count in requests.items():
        record = find_store(name)
        if record is None or DRIVERS[record.kind].is_local:
            continue
        bytes_out = doing.bytes if name == source else 0
        of_1000 = record.fields.get("price_requests", "")
        of_gib = record.fields.get("price_out", "")
        cost = cost_of(count, bytes_out, of_1000, of_gib)
        shown = cost and f"{cost:.4f}"
        found.append({"store": name, "requests": count, "cost": shown})
    return found
