"""Codes with which a person sets a first password, or a new one."""

from __future__ import annotations

import secrets
from datetime import datetime, timedelta

from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from pinecart.core.errors import Invalid
from pinecart.service.config.rights import Actor, Right
from pinecart.service.people.models import EntryCode
from pinecart.service.people.selectors import digest_of, person_named
from pinecart.service.people.services.people import must_be_strong
from pinecart.service.people.services.sessions import sign_out_everywhere
from pinecart.service.trail.services import note

CODE_LASTS = timedelta(days=3)


@transaction.atomic
def make_entry_code(actor: Actor, name: str) -> tuple[str, datetime]:
    """A code with which this person sets a password, once; and when it ends.

    Codes made before end now. Raises NotFound.
    """
    actor.must(Right.ADMINISTER, [], "letting people in")
    person = person_named(name)
    now = timezone.now()
    EntryCode.objects.filter(person=person, used_at=None).update(expires_at=now)
    text = f"pce_{secrets.token_urlsafe(24)}"
    ends = now + CODE_LASTS
    EntryCode.objects.create(person=person, digest=digest_of(text), made_at=now, expires_at=ends)
    note(actor, "entry-code.made", name, ends=f"{ends:%Y-%m-%d %H:%M} UTC")
    return text, ends


@transaction.atomic
def enter_by_code(code: str, *, password: str) -> User:
    """Set the password of the code's person, who was signed out everywhere by it.

    Raises Invalid.
    """
    now = timezone.now()
    found = EntryCode.objects.filter(
        digest=digest_of(code), used_at=None, expires_at__gt=now, person__is_active=True
    )
    entry = found.select_related("person").first()
    if entry is None:
        message = (
            "This code is not known, was used, or has ended. Ask an administrator for a new one."
        )
        raise Invalid([{"field": "code", "code": "entry-code.unknown", "message": message}])
    person = entry.person
    must_be_strong(person.username, password)
    person.set_password(password)
    person.save()
    entry.used_at = now
    entry.save()
    sign_out_everywhere(person)
    note(Actor(person.username, ()), "entry-code.used", person.username)
    return person
