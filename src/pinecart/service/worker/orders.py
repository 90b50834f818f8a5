"""What a run's process is given through its pipe: the frozen definition, and the stores with their
secrets.
"""

from __future__ import annotations

from pinecart.core.definition import Definition
from pinecart.core.definition_reading import read_definition
from pinecart.core.errors import SignInRefused
from pinecart.core.places import key_text
from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import UnknownName
from pinecart.service.config.settings import OPTIONS
from pinecart.service.jobs.selectors import definition_of, find_job
from pinecart.service.jobs.services.checking import clash_of
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.selectors import was_released
from pinecart.service.stores.selectors import rebound_under, spec_of, store_named


def _awaited(definition: Definition) -> tuple[list[Definition], list[str]]:
    """The jobs that it waits for, as they are now; and the names of those that are gone."""
    known: list[Definition] = []
    unknown: list[str] = []
    for name in definition.waits_for:
        record = find_job(name)
        if record is None:
            unknown.append(name)
        else:
            known.append(definition_of(record))
    return known, unknown


def _log_file(definition: Definition) -> JsonObject | None:
    """Where lines of the log go, too."""
    place = definition.log_place
    if place is None:
        return None
    try:
        spec = spec_of(store_named(place.store))
    except (UnknownName, SignInRefused):
        return None
    return {"store": spec, "key": key_text(place.path), "place": place.text}


def order_of(run: RunFacts) -> JsonObject:
    """A store that is gone meanwhile is left out: the run's process then fails the run with that
    reason. One whose secret can't be read holds it.
    """
    definition = read_definition(run.definition)
    awaited, unknown = _awaited(definition)
    specs = {}
    missing = ""
    refused = None
    names = sorted(
        {
            p.store
            for d in (definition, *awaited)
            for leg in d.legs
            for p in (leg.source, leg.target)
        }
    )
    for name in names:
        try:
            specs[name] = spec_of(store_named(name), run=run.pk) | {
                "retry": {"for_s": OPTIONS.retry_s}
            }
        except UnknownName as exc:
            missing = exc.message
        except SignInRefused as exc:
            refused = [exc.message, exc.code]
    return {
        "run": run.pk,
        "epoch": run.epoch,
        "kind": run.kind,
        "of": run.of,
        "released": run.released,
        "part": dict(run.part),
        "audit": dict(run.audit),
        "job": run.job,
        "definition": run.definition,
        "awaited": [d.as_mapping() for d in awaited],
        "awaited_unknown": unknown,
        "stores": specs,
        "log_file": _log_file(definition),
        "retry_s": OPTIONS.retry_s,
        "missing": missing,
        "clash": clash_of(definition),
        "refused": refused,
        "rebound": [
            r
            for name in names
            if (r := rebound_under(run.job, name)) and not was_released(run.job, r.digest)
        ],
    }
