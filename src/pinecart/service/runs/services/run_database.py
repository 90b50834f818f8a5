"""What belongs to the database as a whole."""

from __future__ import annotations

import secrets

from pinecart.service.runs.models import (
    Instance,
)


def bound_to() -> tuple[str, bytes]:
    """The state folder's id as the database knows it (empty: not yet), and what only the folder's
    key opens.
    """
    found = Instance.objects.get(pk=1)
    return found.folder, bytes(found.sealed)


def bind(folder: str, sealed: bytes) -> None:
    Instance.objects.filter(pk=1).update(folder=folder, sealed=sealed)


def prepare_database() -> None:
    """Give the database its epoch, once."""
    Instance.objects.get_or_create(pk=1, defaults={"epoch": secrets.token_hex(4)})
