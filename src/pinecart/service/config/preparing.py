"""What happens to the records before the processes start: migration, with a checked copy first, and
the first person.
"""

from __future__ import annotations

import secrets
import sqlite3
from importlib import import_module
from typing import Any

from django.core.management import call_command
from django.db import connection
from django.db.migrations.executor import MigrationExecutor

from pinecart.service.config.backups import RESTORED
from pinecart.service.config.state import StateError, StateFolder


def prepare_records(state: StateFolder) -> tuple[str, str] | None:
    """(name, password) of the first person if there was nobody yet."""
    executor = MigrationExecutor(connection)
    unknown = sorted(
        f"{app} {name}"
        for app, name in set(executor.loader.applied_migrations) - set(executor.loader.graph.nodes)
    )
    if unknown:
        message = (
            f"The records in {state.root} were written by a newer Pine Cart (it knows "
            f"{unknown[-1]}). Use that one."
        )
        raise StateError(message)
    pending = executor.migration_plan(executor.loader.graph.leaf_nodes())
    if pending:
        if executor.loader.applied_migrations:
            _copy(state)
        state.raise_format()
        call_command("migrate", verbosity=0, interactive=False)
    people = import_module("pinecart.service.people.services.people")
    selectors = import_module("pinecart.service.people.selectors")
    rights = import_module("pinecart.service.config.rights")
    runs = import_module("pinecart.service.runs.services.run_database")
    runs.prepare_database()
    _belong_together(state, runs)
    _after_restore(state)
    if selectors.people_listed():
        return None
    password = people.made_up_password()
    people.add_person(rights.SYSTEM, name="admin", password=password, rights=[("administer", "")])
    return "admin", password


def _belong_together(state: StateFolder, runs: Any) -> None:
    """Folder, database and key know of each other from the first start on.

    That they do was checked before.
    """
    text = {"of": "this database"}
    known, sealed = runs.bound_to()
    if not known:
        number = state.id or secrets.token_hex(8)
        runs.bind(number, state.seal(text))
        known, sealed = runs.bound_to()
    if not state.id:
        state.raise_format(known)
    if state.accepts_new_key() and not state.opens(sealed):
        runs.bind(known, state.seal(text))
    state.accepted_new_key()


def _after_restore(state: StateFolder) -> None:
    """Of a folder that was made from a backup: nothing starts or goes on by itself until a person
    says so.
    """
    marker = state.root / RESTORED
    if not marker.exists():
        return
    settings = import_module("pinecart.service.settings.services")
    life_cycle = import_module("pinecart.service.runs.services.life_cycle")
    life_cycle.pause_all("It was under way when this state folder was backed up.")
    settings.was_restored(marker.read_text().strip())
    marker.unlink()


def _copy(state: StateFolder) -> None:
    """A copy of the database beside it, checked, before a migration changes it."""
    place = state.root / "before-migration.sqlite3"
    with sqlite3.connect(state.database) as now, sqlite3.connect(place) as copy:
        now.backup(copy)
        if copy.execute("PRAGMA integrity_check").fetchone() != ("ok",):
            raise StateError(
                f"The copy of the database at {place} is not whole. Nothing was migrated; "
                "check the disk."
            )
