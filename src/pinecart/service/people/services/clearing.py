"""What is of no use any more once its time is over: sessions, codes, failed guesses."""

from __future__ import annotations

from datetime import datetime, timedelta

from django.db import transaction

from pinecart.service.people.models import EntryCode, SignIn

KEPT = timedelta(days=90)
AT_ONCE = 500


@transaction.atomic(savepoint=False)
def clear_old_entries(now: datetime) -> bool:
    """One step. False: there was nothing to do."""
    until = now - KEPT
    old = SignIn.objects.filter(seen_at__lt=until)
    numbers = list(old.values_list("pk", flat=True)[:AT_ONCE])
    sign_ins, _ = SignIn.objects.filter(pk__in=numbers).delete()
    codes, _ = EntryCode.objects.filter(expires_at__lt=until).delete()
    return sign_ins + codes > 0
