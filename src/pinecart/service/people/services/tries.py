"""Guesses at passwords wait: failures count for a name and for an address, in the records."""

from __future__ import annotations

from datetime import datetime, timedelta

from django.db import transaction
from django.utils import timezone

from pinecart.service.config.rights import Actor
from pinecart.service.people.models import Failures
from pinecart.service.trail.services import note

FREE = {"person": 5, "address": 20}  # failures that cost nothing
LONGEST_S = 60  # so that the owner of a name that somebody else guesses at gets in within minutes
FORGOTTEN = timedelta(hours=1)


@transaction.atomic
def begin_try(person: str, address: str) -> float:
    """Seconds that this try has to wait, and it is not made; 0: it may be made, and counts as
    failed until it succeeds.
    """
    now = timezone.now()
    Failures.objects.filter(last_at__lt=now - FORGOTTEN).delete()
    names = _names(person, address)
    found = {f.whose: f for f in Failures.objects.filter(whose__in=names.values())}
    waits = max(
        (_wait_s(kind, found.get(whose), now) for kind, whose in names.items()), default=0.0
    )
    if waits > 0:
        return waits
    for whose in names.values():
        row = found.get(whose) or Failures(whose=whose)
        row.count = row.count + 1
        row.last_at = now
        row.save()
    return 0.0


def _wait_s(kind: str, row: Failures | None, now: datetime) -> float:
    """Seconds until the next try is looked at: none for the first few, then doubled each time, up
    to a bound.
    """
    if row is None:
        return 0.0
    over = row.count - FREE[kind]
    if over < 0:
        return 0.0
    doubled = 2.0 ** min(over, 10)
    waited = now - row.last_at
    return min(doubled, LONGEST_S) - waited.total_seconds()


@transaction.atomic
def end_try(person: str, address: str) -> None:
    """It succeeded: the name starts anew, and the address has one failure less."""
    names = _names(person, address)
    Failures.objects.filter(whose=names["person"]).delete()
    of_address = Failures.objects.filter(whose=names["address"])
    for row in of_address:
        row.count = max(0, row.count - 1)
        row.save()


def _names(person: str, address: str) -> dict[str, str]:
    return {"person": f"person {person[:150]}", "address": f"address {address[:60]}"}


@transaction.atomic
def note_refused(name: str, *, address: str, why: str) -> None:
    note(Actor("nobody", ()), "sign-in.refused", name[:150], address=address, why=why)
