from __future__ import annotations

from collections.abc import Collection
from datetime import datetime
from typing import Any

from django.db.models import Exists, Min, Q, QuerySet

from pinecart.core.entries import Aside
from pinecart.core.places import ASIDE
from pinecart.core.ports import OF_A_PROBE
from pinecart.service.aside.models import AsideRow, UploadRow

PAGE = 500
STILL_THERE = ["meant", "kept"]


def aside_of(row: AsideRow) -> Aside:
    return Aside(
        row.leg, row.side, bytes(row.key), bytes(row.at), row.size, row.was, row.kept, row.version
    )


def asides_meant(run: int, leg: int) -> list[Aside]:
    meant = AsideRow.objects.filter(run_id=run, leg=leg, state="meant")
    return [aside_of(row) for row in meant.order_by("id")]


def asides_kept(run: int, leg: int, after: int) -> tuple[list[Aside], int]:
    """A page of what a run set aside, or meant to, and may still be there; and where to go on."""
    kept = AsideRow.objects.filter(run_id=run, leg=leg, version="", state__in=STILL_THERE)
    following = kept.filter(pk__gt=after).order_by("id")
    found = list(following[:PAGE])
    asides = [aside_of(row) for row in found]
    if found:
        after = found[-1].pk
    return asides, after


def things_kept(run: Any) -> Q:
    """That something a run set aside, or an upload it left, may still be there.

    run: a number, or a reference to one.
    """
    asides = AsideRow.objects.filter(run_id=run, state__in=STILL_THERE)
    return Q(Exists(asides)) | Q(Exists(UploadRow.objects.filter(run_id=run)))


def places_aside() -> list[tuple[str, bytes]]:
    """(store, whole prefix) of everything that runs set aside and is still kept."""
    found = (
        AsideRow.objects.filter(version="", state__in=STILL_THERE)
        .values("run_id", "store")
        .annotate(first=Min("at"))
    )
    return [(a["store"], _folder_aside(bytes(a["first"]), a["run_id"])) for a in found]


def probes_left() -> list[tuple[str, bytes]]:
    """(store, key) of each small object by which a run asked what a bucket can do, and that it may
    not take away.
    """
    rows = UploadRow.objects.filter(token=OF_A_PROBE).values_list("store", "key")
    return [(store, bytes(key)) for store, key in rows]


def _folder_aside(at: bytes, run: int) -> bytes:
    name = ASIDE + f"{run}/".encode()
    return at[: at.index(name) + len(name)]


def asides_of(run: int, leg: int, keys: list[bytes]) -> dict[tuple[str, bytes], Aside]:
    """(side, key) → what of it is kept."""
    found = AsideRow.objects.filter(run_id=run, leg=leg, key__in=keys, state="kept")
    return {(row.side, bytes(row.key)): aside_of(row) for row in found}


def uploads_left(run: int) -> list[tuple[str, bytes, str]]:
    """Store, key and name of each upload that the run began and hasn't ended, in whatever order
    they were begun.
    """
    return [
        (s, bytes(k), at)
        for s, k, at in UploadRow.objects.filter(run_id=run).values_list("store", "key", "at")
    ]


def has_uploads(run: int) -> bool:
    return UploadRow.objects.filter(run_id=run).exists()


def runs_with_asides_due(now: datetime, ended: Collection[str], most: int) -> list[int]:
    """Runs in one of these states whose set-aside has had its days."""
    kept = AsideRow.objects.filter(version="", state__in=STILL_THERE)
    overdue = kept.filter(until__lt=now)
    due = overdue.filter(run__state__in=ended)
    return _runs_of(due, most)


def runs_with_uploads_due(
    now: datetime, ended: Collection[str], ended_before: datetime, most: int
) -> list[int]:
    """Runs in one of these states that left uploads unfinished, and are over for some time."""
    over = UploadRow.objects.filter(run__state__in=ended, run__ended_at__lt=ended_before)
    return _runs_of(over.filter(Q(clear_at=None) | Q(clear_at__lt=now)), most)


def _runs_of(rows: QuerySet[AsideRow] | QuerySet[UploadRow], most: int) -> list[int]:
    return list(rows.values_list("run_id", flat=True).distinct()[:most])
