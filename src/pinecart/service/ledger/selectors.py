from __future__ import annotations

from collections.abc import Collection
from typing import cast

from django.db import connection
from django.db.models import F, Q, QuerySet, Value, Window
from django.db.models.functions import Mod, RowNumber

from pinecart.core.columns import Rows
from pinecart.core.entries import Row, Stored
from pinecart.service.ledger.models import STORED, LedgerRow, Scope

PAGE = 5000
TOGETHER = 1000
CUT_EVERY = 1000


def ledger_pages(scope: int, after: bytes, limit: int = PAGE) -> list[Rows]:
    """Read as the database gives them: what the ORM does with each row afterwards would cost a
    fifth more. By the thousand, which become columns while the processor still has them at hand.
    """
    following = LedgerRow.objects.filter(scope_id=scope, key__gt=after).order_by("key")
    found = following.values_list(*STORED)[:limit]
    sql, params = found.query.sql_with_params()
    with connection.cursor() as cursor:
        cursor.execute(sql, params)
        pages = iter(lambda: cursor.fetchmany(TOGETHER), [])
        return [Rows.of(rows) for rows in pages]


def ledger_cuts(scope: int) -> list[bytes]:
    """Every thousandth key, in order: where a long listing is read in several ranges at once."""
    in_order = F("key").asc()
    number = Window(RowNumber(), order_by=in_order)
    rest = Mod(F("n"), Value(CUT_EVERY))
    rows = LedgerRow.objects.filter(scope_id=scope)
    numbered = rows.annotate(n=number).annotate(rest=rest)
    found = numbered.filter(rest=0)
    keys = found.values_list("key", flat=True)
    return [bytes(key) for key in keys]


def taken_of(scope: int, keys: list[bytes]) -> dict[bytes, str]:
    """Of these keys those that a ledger remembers, and their sources' fingerprints."""
    found = LedgerRow.objects.filter(scope_id=scope, key__in=keys).values_list("key", "source")
    return {bytes(key): source for key, source in found}


def dropped_name(job: str) -> str:
    """What the names of a dropped job's scopes begin with: no job can be called so."""
    return f":{job}:"


def scopes_of_past(job: str, identity: str) -> list[int]:
    """All ledgers that a job of this name ever had between two places, dropped ones too."""
    of_job = Q(job=job) | Q(job__startswith=dropped_name(job))
    return list(Scope.objects.filter(of_job, identity=identity).values_list("pk", flat=True))


def scope_known(job: str, identity: str) -> int:
    """0: this job never ran between these places."""
    return (
        Scope.objects.filter(job=job, identity=identity).values_list("pk", flat=True).first() or 0
    )


def rows_of(scopes: Collection[int], keys: list[bytes]) -> list[Row]:
    """What these ledgers remember of these keys."""
    found = LedgerRow.objects.filter(scope_id__in=scopes, key__in=keys).values_list(*STORED)
    return [Row.read(stored) for stored in cast("QuerySet[LedgerRow, Stored]", found)]
