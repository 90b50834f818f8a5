"""One package per storage protocol, over the one contract `core.ports.Store`."""

from __future__ import annotations

from typing import Any

from pinecart.core.errors import Refused
from pinecart.core.ports import Store
from pinecart.drivers.folder.store import FolderStore
from pinecart.drivers.memory import MemoryStore
from pinecart.drivers.s3.store import S3Store

KINDS = ("folder", "s3")
__all__ = ["KINDS", "open_store"]


def open_store(spec: dict[str, Any]) -> Store:
    """A store from its spec: `kind`, `name`, the kind's own fields, and its secrets where it has
    any.
    """
    kinds: dict[str, Any] = {"folder": FolderStore, "s3": S3Store, "memory": MemoryStore}
    try:
        made: Store = kinds[spec["kind"]].from_spec(spec)
        return made
    except KeyError as exc:
        raise Refused(
            f"Store {spec.get('name')!r} can't be opened: {exc} is missing or unknown."
        ) from exc
