from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from django.db import transaction

from pinecart.core.decide import Intent
from pinecart.core.errors import Invalid
from pinecart.core.option_spec import Problems
from pinecart.core.options import OPTIONS
from pinecart.core.periods import Periods
from pinecart.core.value_lines import read_values
from pinecart.json_object import JsonObject
from pinecart.service.config.rights import SYSTEM, Actor, Right
from pinecart.service.settings.models import Setting
from pinecart.service.settings.selectors import GUARDS, KEEP, RESTORED, VALUES, settings_told
from pinecart.service.trail.services import change, changed, note


def change_settings(actor: Actor, given: Mapping[str, Any]) -> JsonObject:
    """Set what is given; the rest stays. values: lines of name=value.   guards: limit → number; one
    that is as usual is left out.

    Raises Invalid, NotAllowed.
    """
    found = _read(given)
    with change(actor) as made:
        made.must(Right.ADMINISTER, [], "changing the service's settings")
        before = settings_told()
        for name, value in found.items():
            Setting.objects.update_or_create(name=name, defaults={"value": value})
        made.note("settings.changed", "settings", **changed(before, settings_told()))
    return settings_told()


def was_restored(made_at: str) -> None:
    """This state folder was made from a backup."""
    with transaction.atomic(savepoint=False):
        Setting.objects.update_or_create(name=RESTORED, defaults={"value": {"of": made_at}})
        note(SYSTEM, "state.restored", "state folder", backup=made_at)


def go_on(actor: Actor) -> None:
    """What was restored starts by itself again. Raises NotAllowed."""
    with change(actor) as made:
        made.must(Right.ADMINISTER, [], "letting what was restored go on")
        Setting.objects.filter(name=RESTORED).delete()
        made.note("state.goes-on", "state folder")


def _read(given: Mapping[str, Any]) -> JsonObject:
    reading = Problems()
    found: JsonObject = {}
    if VALUES in given:
        values, wrong = read_values(given[VALUES])
        for message in wrong:
            reading.wrong(VALUES, "settings.value", message)
        found[VALUES] = values
    if GUARDS in given:
        found[GUARDS] = OPTIONS[GUARDS].value_of(dict(given), Intent.RENEW, "", reading)
    if KEEP in given:
        usual = Periods()._asdict()
        found[KEEP] = {name: n for name, n in given[KEEP].items() if n != usual[name]}
    if reading.problems:
        raise Invalid(reading.problems)
    return found
