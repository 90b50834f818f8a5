"""What runs of one job placed, as the part of another that takes it on."""

from __future__ import annotations

from collections.abc import Sequence

from pinecart.core.definition import Definition
from pinecart.core.definition_reading import read_definition
from pinecart.core.part import ALL, Part
from pinecart.core.places import Location, key_of_text
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.selectors.records import placed_in_leg

MOST_PLACED = 20_000  # files: after more of them the whole job is done


def placed_part(definition: Definition, runs: Sequence[RunFacts]) -> Part | None:
    """Of a definition, what these runs placed in its sources. None: nothing.   ALL: it is too much
    to name, or not known any more.
    """
    keys: set[bytes] = set()
    for run in runs:
        if run.cleared_at is not None:
            return ALL
        for number, leg in enumerate(read_definition(run.definition).legs):
            found = placed_in_leg(run.pk, number, MOST_PLACED + 1)
            keys |= _in_sources(definition, leg.target, found)
            if len(found) > MOST_PLACED or len(keys) > MOST_PLACED:
                return ALL
    if keys:
        return Part(keys=frozenset(keys))
    return None


def _in_sources(definition: Definition, place: Location, keys: Sequence[bytes]) -> set[bytes]:
    """Keys below a place as they are called in the sources of a definition."""
    found = set()
    wholes = [place.path + key for key in keys]
    for leg in definition.legs:
        if not leg.is_on or leg.source.store != place.store:
            continue
        one = key_of_text(leg.one[0]) if leg.one else None
        source = leg.source.path
        for whole in wholes:
            if not whole.startswith(source):
                continue
            key = whole[len(source) :]
            if one in (None, key):
                found.add(key)
    return found
