from __future__ import annotations

from pinecart.json_object import JsonObject
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.presentation import run_told, whole_told
from pinecart.service.runs.selectors.history import unusual_in


def run_whole(run: RunFacts) -> JsonObject:
    """A run as its own page and its report tell it."""
    return run_told(run) | whole_told(run) | {"unusual": unusual_in(run)}
