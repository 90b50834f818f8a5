"""Changes of ledgers, each in the caller's transaction: who may make them is decided there."""

from __future__ import annotations

from datetime import datetime, timedelta

from django.utils import timezone

from pinecart.core.entries import Row
from pinecart.core.options import KEPT_DAYS
from pinecart.service.config.upserts import upsert
from pinecart.service.ledger.models import STORED, LedgerRow, Scope
from pinecart.service.ledger.selectors import dropped_name

DELETE_AT_ONCE = 1000
KEYS_IN_ONE_QUERY = 500


def open_scope(job: str, identity: str) -> tuple[int, str]:
    """The scope, made if there is none; and the digest of the selection with which it was last
    carried out to its end.
    """
    scope = Scope.objects.get_or_create(job=job, identity=identity)[0]
    return scope.pk, scope.settled


def settle(scope: int, digest: str) -> None:
    """This selection has been carried out to its end once."""
    Scope.objects.filter(pk=scope).update(settled=digest)


def write_rows(rows: list[tuple[int, Row]]) -> None:
    """(scope, row): the ledger has these from now on."""
    told = [(scope, bytearray(key), *rest) for scope, row in rows for key, *rest in (row.stored(),)]
    upsert(LedgerRow, ("scope", *STORED), told, unique=("scope", "key"), update=STORED[1:])


def drop_rows(scope: int, keys: list[bytes]) -> None:
    for i in range(0, len(keys), KEYS_IN_ONE_QUERY):
        some = keys[i : i + KEYS_IN_ONE_QUERY]
        LedgerRow.objects.filter(scope_id=scope, key__in=some).delete()


def set_apart(job: str) -> None:
    """Whoever defines a job of this name later begins without what this one remembered."""
    for scope in Scope.objects.filter(job=job):
        scope.job = dropped_name(job) + str(scope.pk)
        scope.dropped_at = timezone.now()
        scope.save(update_fields=["job", "dropped_at"])


def clear_forgotten(now: datetime) -> None:
    """Some of what dropped jobs remembered, once none of their runs can be undone any more."""
    old = Scope.objects.filter(dropped_at__lt=now - timedelta(days=KEPT_DAYS)).first()
    if old is None:
        return
    found = LedgerRow.objects.filter(scope=old).values_list("key", flat=True)[:DELETE_AT_ONCE]
    keys = [bytes(key) for key in found]
    drop_rows(old.pk, keys)
    if not keys:
        old.delete()
