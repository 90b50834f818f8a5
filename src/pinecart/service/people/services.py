from __future__ import annotations

import secrets
from datetime import timedelta

from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from pinecart.core.errors import Invalid
from pinecart.core.places import is_name
from pinecart.service.config.refusals import Conflict, NotFound
from pinecart.service.config.rights import Actor, Right
from pinecart.service.people.models import Grant, Token
from pinecart.service.people.selectors import digest_of
from pinecart.service.trail.services import note


@transaction.atomic
def add_person(actor: Actor, *, name: str, password: str, rights: list[tuple[str, str]]) -> None:
    """rights: (right, label). Raises Invalid, Conflict."""
    actor.must(Right.ADMINISTER, [], "adding people")
    if not is_name(name) or len(password) < 8 or any(r not in list(Right) for r, _ in rights):
        message = "A person needs a short name, a password of at least 8 characters, and known rights: look, operate, define, administer."
        raise Invalid([{"field": "name", "code": "person.malformed", "message": message}])
    if User.objects.filter(username=name).exists():
        raise Conflict(f"There is a person {name!r} already. Choose another name.", code="person.taken")
    user = User.objects.create_user(name, password=password)
    Grant.objects.bulk_create([Grant(person=user, right=r, label=label) for r, label in rights])
    note(actor, "person.added", name, rights=rights)


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


@transaction.atomic
def revoke_token(actor: Actor, number: int) -> None:
    token = Token.objects.filter(pk=number, revoked_at=None).select_related("person").first()
    if token is None or (token.person_id != actor.user_id and not actor.may(Right.ADMINISTER, [])):
        raise NotFound(f"You have no living token number {number}.", code="token.unknown")
    token.revoked_at = timezone.now()
    token.save(update_fields=["revoked_at"])
    note(actor, "token.revoked", token.person.username, name=token.name)
