"""Changes of the journals, each in the caller's transaction: who may make them is decided there."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from datetime import datetime

from pinecart.core.entries import Aside
from pinecart.service.aside.models import AsideRow, UploadRow
from pinecart.service.aside.selectors import STILL_THERE


def journal_asides(
    run: int, asides: list[Aside], stores: Mapping[tuple[int, str], str], until: datetime
) -> None:
    """What is about to be set aside. stores: (leg, side) → the store it lies in."""
    rows = [
        AsideRow(run_id=run, until=until, store=stores[a.leg, a.side], **a._asdict())
        for a in asides
    ]
    AsideRow.objects.bulk_create(
        rows,
        update_conflicts=True,
        unique_fields=["run", "leg", "side", "key"],
        update_fields=["at", "size", "was", "version"],
    )


def is_set_aside(run: int, leg: int, key: bytes, kept: str) -> None:
    """It came to be. kept: the fingerprint of what is kept."""
    meant = AsideRow.objects.filter(run_id=run, leg=leg, key=key, state="meant")
    meant.update(state="kept", kept=kept)


def no_longer_aside(of: int, asides: list[Aside], *, back: bool) -> None:
    """What run `of` had set aside was brought back, or is gone for good now."""
    state = "back" if back else "gone"
    rows = AsideRow.objects.filter(run_id=of)
    for aside in asides:
        found = rows.filter(leg=aside.leg, side=aside.side, key=aside.key)
        found.update(state=state)


def try_asides_again(run: int, at: datetime) -> None:
    AsideRow.objects.filter(run_id=run, version="", state__in=STILL_THERE).update(until=at)


def try_uploads_again(run: int, at: datetime) -> None:
    UploadRow.objects.filter(run_id=run).update(clear_at=at)


def upload_begun(run: int, store: str, key: bytes, token: str, at: str) -> str:
    """An upload in parts starts; the id of one begun before for the same token, or empty."""
    known = UploadRow.objects.filter(run_id=run, store=store, key=key).first()
    if known is None:
        UploadRow.objects.create(run_id=run, store=store, key=key, token=token, at=at, upload="")
        return ""
    if known.token == token and known.upload:
        return known.upload
    known.token = token
    known.upload = ""
    known.again = True  # whatever was begun for this key since `at` is ours
    known.save()
    return ""


def upload_named(run: int, store: str, key: bytes, upload: str) -> None:
    UploadRow.objects.filter(run_id=run, store=store, key=key).update(upload=upload)


def upload_over(run: int, store: str, key: bytes) -> None:
    """It is an object now, or given up. What was begun more than once stays journalled until the
    store was cleared of it.
    """
    rows = UploadRow.objects.filter(run_id=run, store=store, key=key)
    rows.filter(again=False).delete()
    rows.update(upload="")


def upload_cleared(run: int, store: str, key: bytes) -> None:
    UploadRow.objects.filter(run_id=run, store=store, key=key).delete()


def forget_asides(runs: Collection[int]) -> None:
    """What is known of the set-aside of runs of which nothing is there any more."""
    AsideRow.objects.filter(run_id__in=runs).delete()
