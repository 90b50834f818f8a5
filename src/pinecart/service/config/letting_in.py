"""For whoever has the machine: lets somebody in again, beside a service that may be at work."""

from __future__ import annotations

import os
from datetime import datetime
from importlib import import_module

from pinecart.core.errors import PinecartError
from pinecart.service.config.state import StateError, StateFolder


def let_in(state: StateFolder, name: str) -> tuple[str, datetime]:
    """An entry code of this person, who is switched on and has no second factor any more.

    Raises StateError.
    """
    state.check_format()
    os.environ["PINECART_DATA"] = str(state.root)
    os.environ["DJANGO_SETTINGS_MODULE"] = "pinecart.service.config.settings"
    import django

    django.setup()
    people = import_module("pinecart.service.people.services.people")
    entry_codes = import_module("pinecart.service.people.services.entry_codes")
    system = import_module("pinecart.service.config.rights").SYSTEM
    try:
        people.change_person(system, name, active=True, second_factor=False)
        code, ends = entry_codes.make_entry_code(system, name)
    except PinecartError as exc:
        raise StateError(exc.message, code=exc.code) from None
    return code, ends
