"""What a run's process is given through its pipe: the frozen definition, and the stores with their secrets."""

from __future__ import annotations

from typing import Any

from pinecart.core.definition import read_definition
from pinecart.service.config.refusals import NotFound
from pinecart.service.runs.selectors import Run
from pinecart.service.stores.selectors import spec_of, store_named


def order_of(run: Run) -> dict[str, Any]:
    """A store that is gone meanwhile is left out: the run's process then fails the run with that reason."""
    definition = read_definition(run.definition)
    specs, missing = {}, ""
    for name in sorted({p.store for leg in definition.legs for p in (leg.source, leg.target)}):
        try:
            specs[name] = spec_of(store_named(name), run=run.pk)
        except NotFound as exc:
            missing = exc.message
    return {
        "run": run.pk,
        "epoch": run.epoch,
        "kind": run.kind,
        "of": run.of,
        "released": run.released,
        "job": run.job,
        "definition": run.definition,
        "stores": specs,
        "missing": missing,
    }
