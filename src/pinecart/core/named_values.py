"""Named values in places: `{site}` in a job's from and to stands for what it is called by the job,
or else by the service.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace

from pinecart.core.definition import Definition, Leg
from pinecart.core.places import Location, key_of_text, key_text
from pinecart.core.value_lines import DATE_PARTS, read_values

_NAMED = re.compile(r"\{([a-z][a-z0-9_]{0,39})\}")


def values_of(definition: Definition) -> dict[str, str]:
    return read_values(definition["values"])[0]


def named_in(definition: Definition) -> set[str]:
    """The names that its places ask for; of the date none."""
    texts = [key_text(place.path) for leg in definition.legs for place in (leg.source, leg.target)]
    return {name for text in texts for name in _NAMED.findall(text)} - set(DATE_PARTS)


def with_values(definition: Definition, of_service: Mapping[str, str]) -> Definition:
    """With the job's own values, or else the service's, in its places. What has none stays."""
    if not named_in(definition):
        return definition
    values = {**of_service, **values_of(definition)}
    legs = tuple(_leg(leg, values) for leg in definition.legs)
    return replace(definition, legs=legs)


def _leg(leg: Leg, values: Mapping[str, str]) -> Leg:
    return replace(leg, source=_place(leg.source, values), target=_place(leg.target, values))


def _place(place: Location, values: Mapping[str, str]) -> Location:
    text = _NAMED.sub(lambda found: values.get(found[1], found[0]), key_text(place.path))
    return place._replace(path=key_of_text(text, field="values"))
