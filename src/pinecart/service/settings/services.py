from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pinecart.core.decide import Intent
from pinecart.core.errors import Invalid
from pinecart.core.option_spec import Problems
from pinecart.core.options import OPTIONS
from pinecart.core.periods import Periods
from pinecart.core.value_lines import read_values
from pinecart.json_object import JsonObject
from pinecart.service.config.rights import Actor, Right
from pinecart.service.settings.models import Setting
from pinecart.service.settings.selectors import GUARDS, KEEP, VALUES, settings_told
from pinecart.service.trail.services import change, changed


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
