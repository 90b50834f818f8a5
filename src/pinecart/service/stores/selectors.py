from __future__ import annotations

from datetime import datetime
from typing import Any

from django.db.models import Max

from pinecart.core.places import closest, did_you_mean
from pinecart.service.config.refusals import NotFound
from pinecart.service.config.settings import OPTIONS, STATE
from pinecart.service.stores.models import StoreRecord, StoreUse


def store_named(name: str) -> StoreRecord:
    """Raises NotFound, with the names that are like it."""
    found = StoreRecord.objects.filter(name=name).first()
    if found is None:
        known = list(StoreRecord.objects.values_list("name", flat=True))
        message = f"There is no store {name!r}.{did_you_mean(name, known)} Add one with: pinecart store add."
        raise NotFound(message, code="store.unknown", did_you_mean=closest(name, known))
    return found


def stores_listed() -> list[StoreRecord]:
    return list(StoreRecord.objects.order_by("name"))


def store_names() -> list[str]:
    return list(StoreRecord.objects.values_list("name", flat=True))


def spec_of(record: StoreRecord, *, run: int = 0) -> dict[str, Any]:
    """All that a driver needs, secrets included: only ever passed on through a pipe or used at once."""
    secret = STATE.unseal(bytes(record.sealed)) if record.sealed else {}
    return {
        "kind": record.kind, "name": record.name, **record.fields, **secret, "abilities": record.abilities,
        "allowed": OPTIONS.allowed, "forbidden": STATE.forbidden, "run": run,
    }  # fmt: skip


def jobs_using_store(name: str) -> list[str]:
    return list(StoreUse.objects.filter(store__name=name).order_by("job").values_list("job", flat=True))


def newest_key() -> datetime | None:
    """When a store was last given a secret."""
    found: datetime | None = StoreRecord.objects.aggregate(at=Max("secret_since"))["at"]
    return found
