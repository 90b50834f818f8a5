from __future__ import annotations

from dataclasses import replace
from datetime import datetime

from django.utils import timezone

from pinecart.core.dated_places import filled
from pinecart.core.definition import Definition
from pinecart.core.definition_reading import read_definition
from pinecart.core.guards import Limits
from pinecart.core.named_values import with_values
from pinecart.core.periods import Periods
from pinecart.json_object import JsonObject
from pinecart.service.settings.models import Setting

VALUES = "values"
GUARDS = "guards"
KEEP = "keep"
RESTORED = "restored"


def values_set() -> dict[str, str]:
    return _value(VALUES)


def guards_set() -> dict[str, int]:
    return _value(GUARDS)


def keep_set() -> dict[str, int]:
    """The periods that are not as usual (core.periods)."""
    return _value(KEEP)


def _value(name: str) -> JsonObject:
    found = Setting.objects.filter(name=name).values_list("value", flat=True).first()
    return dict(found or {})


def restored_of() -> str:
    """When the backup was made that this state folder was made from, and nobody has said yet that
    it may go on by itself; empty: it goes on.
    """
    return str(_value(RESTORED).get("of", ""))


def settings_told() -> JsonObject:
    """guards: all of them, as they hold for a job that says nothing else.   keep: how long what was
    recorded is kept, in days.
    """
    usual = Limits()._asdict()
    keep = Periods.of(keep_set())._asdict()
    return {"values": values_set(), "guards": usual | guards_set(), KEEP: keep}


def as_it_runs(definition: Definition, moment: datetime | None = None) -> Definition:
    """With everything that isn't its own: named values and parts of the date in its places, and the
    service's limits where it has none. moment: of the run; now, without one.

    Raises Invalid where what was filled in makes it no job that could be saved.
    """
    named = with_values(definition, values_set())
    guards = guards_set() | dict(definition["guards"])
    options = {**named.options, GUARDS: guards} if GUARDS in named.options else named.options
    found = filled(replace(named, options=options), moment or timezone.now())
    if found.legs != definition.legs:
        read_definition(found.as_mapping())  # its places may lie in one another by now
    return found
