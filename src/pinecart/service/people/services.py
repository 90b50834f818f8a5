from __future__ import annotations

import secrets
from datetime import timedelta

from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils import timezone

from pinecart.core.errors import Invalid
from pinecart.core.places import is_name
from pinecart.service.config.refusals import Conflict, NotFound
from pinecart.service.config.rights import Actor, Right
from pinecart.service.people.models import Failures, Grant, Token
from pinecart.service.people.selectors import digest_of
from pinecart.service.trail.services import note

FREE = {"person": 5, "address": 20}  # failures that cost nothing
LONGEST_S = 60  # so that the owner of a name that somebody else guesses at gets in within minutes
FORGOTTEN = timedelta(hours=1)


@transaction.atomic
def add_person(actor: Actor, *, name: str, password: str, rights: list[tuple[str, str]]) -> None:
    """rights: (right, label). Raises Invalid, Conflict."""
    actor.must(Right.ADMINISTER, [], "adding people")
    _must_be_strong(name, password)
    if not is_name(name) or any(r not in list(Right) for r, _ in rights):
        message = "A person needs a short name and known rights: look, operate, define, administer."
        raise Invalid([{"field": "name", "code": "person.malformed", "message": message}])
    if User.objects.filter(username=name).exists():
        raise Conflict(f"There is a person {name!r} already. Choose another name.", code="person.taken")
    user = User.objects.create_user(name, password=password)
    Grant.objects.bulk_create([Grant(person=user, right=r, label=label) for r, label in rights])
    note(actor, "person.added", name, rights=rights)


def _must_be_strong(name: str, password: str) -> None:
    """Raises Invalid for a password that is short, common (Django's list of 20,000), or much like the name."""
    try:
        validate_password(password, User(username=name))
    except ValidationError as exc:
        problem = {"field": "password", "code": "password.weak", "message": " ".join(exc.messages)}
        raise Invalid([problem]) from None


@transaction.atomic
def make_token(actor: Actor, *, person: str, name: str, days: int | None) -> str:
    """A new token's text, told this once. For somebody else only by an administrator. days None: does not expire."""
    if person != actor.name:
        actor.must(Right.ADMINISTER, [], "making somebody else's token")
    user = User.objects.filter(username=person).first()
    if user is None:
        raise NotFound(f"There is no person {person!r}.", code="person.unknown")
    text = f"pct_{secrets.token_urlsafe(32)}"
    now = timezone.now()
    expires = now + timedelta(days=days) if days is not None else None
    Token.objects.create(person=user, name=name, digest=digest_of(text), made_at=now, expires_at=expires)
    note(actor, "token.made", person, name=name)
    return text


def _names(person: str, address: str) -> dict[str, str]:
    return {"person": f"person {person[:150]}", "address": f"address {address[:60]}"}


@transaction.atomic
def begin_try(person: str, address: str) -> float:
    """Seconds that this try has to wait, and it is not made; 0: it may be made, and counts as failed until it succeeds."""
    now = timezone.now()
    Failures.objects.filter(last_at__lt=now - FORGOTTEN).delete()
    names = _names(person, address)
    found = {f.whose: f for f in Failures.objects.filter(whose__in=names.values())}
    waits = 0.0
    for kind, whose in names.items():
        if row := found.get(whose):
            over = row.count - FREE[kind]
            wait_s = min(2 ** min(over, 10), LONGEST_S) if over >= 0 else 0
            waits = max(waits, wait_s - (now - row.last_at).total_seconds())
    if waits > 0:
        return waits
    for whose in names.values():
        row = found.get(whose) or Failures(whose=whose)
        row.count, row.last_at = row.count + 1, now
        row.save()
    return 0.0


@transaction.atomic
def end_try(person: str, address: str) -> None:
    """It succeeded: the name starts anew, and the address has one failure less."""
    names = _names(person, address)
    Failures.objects.filter(whose=names["person"]).delete()
    for row in Failures.objects.filter(whose=names["address"]):
        row.count = max(0, row.count - 1)
        row.save()


@transaction.atomic
def note_sign_in(name: str, *, address: str, worked: bool) -> None:
    note(
        Actor(name[:150] if worked else "nobody", ()),
        "signed-in" if worked else "sign-in.refused",
        name[:150],
        address=address,
    )


@transaction.atomic
def note_sign_out(actor: Actor) -> None:
    note(actor, "signed-out", actor.name)


@transaction.atomic
def revoke_token(actor: Actor, number: int) -> None:
    token = Token.objects.filter(pk=number, revoked_at=None).select_related("person").first()
    if token is None or (token.person_id != actor.user_id and not actor.may(Right.ADMINISTER, [])):
        raise NotFound(f"You have no living token number {number}.", code="token.unknown")
    token.revoked_at = timezone.now()
    token.save(update_fields=["revoked_at"])
    note(actor, "token.revoked", token.person.username, name=token.name)
