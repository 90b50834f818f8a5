"""Tokens, by which programs come in."""

from __future__ import annotations

import secrets
from collections.abc import Iterable
from datetime import timedelta

from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from pinecart.core.errors import Invalid
from pinecart.core.places import shown_lines
from pinecart.service.config.refusals import UnknownName
from pinecart.service.config.rights import Actor, Right
from pinecart.service.people.models import Token
from pinecart.service.people.selectors import digest_of, least, person_named
from pinecart.service.trail.services import note


@transaction.atomic
def make_token(
    actor: Actor,
    *,
    person: str,
    name: str,
    days: int | None,
    right: str = "",
    starts: str = "",
    reads_calendar: bool = False,
) -> str:
    """A new token's text, told this once. For somebody else only by an administrator. days None:
    does not expire.

    right: it carries no more than this one.   starts: it may start this job, and nothing else.
    reads_calendar: it may read the schedule as a calendar, and nothing else. What a token makes
    carries no more than itself, and ends with it.
    """
    if starts and reads_calendar:
        message = "A token starts a job, or reads the calendar: make two."
        raise Invalid([{"field": "starts", "code": "token.two-uses", "message": message}])
    if person != actor.name:
        actor.must(Right.ADMINISTER, [], "making somebody else's token")
    user = person_named(person)
    now = timezone.now()
    expires = now + timedelta(days=days) if days is not None else None
    parent = Token.objects.filter(pk=actor.token or 0).first()
    if parent is not None:
        expires = min((e for e in (expires, parent.expires_at) if e), default=None)
        if parent.most:
            right = least(right or Right.ADMINISTER, parent.most)

    text = f"pct_{secrets.token_urlsafe(32)}"
    Token.objects.create(
        person=user,
        name=shown_lines(name),
        digest=digest_of(text),
        made_at=now,
        expires_at=expires,
        most=right,
        starts=starts,
        reads_calendar=reads_calendar,
        parent=parent,
    )
    uses = {"starts": starts, "reads_calendar": reads_calendar}
    note(actor, "token.made", person, name=name, right=right, **uses)
    return text


@transaction.atomic
def revoke_token(actor: Actor, number: int) -> None:
    """At once, with all tokens that it made. Raises NotFound."""
    living = Token.objects.filter(revoked_at=None).select_related("person")
    token = living.filter(pk=number).first()
    if token is None or not _may_revoke(actor, token):
        message = f"You have no living token number {number}."
        raise UnknownName(message, code="token.unknown")
    _end([token])
    person = token.person.username
    note(actor, "token.revoked", person, name=token.name)


def _may_revoke(actor: Actor, token: Token) -> bool:
    is_own = token.person_id == actor.user_id
    return is_own or actor.may(Right.ADMINISTER, [])


def end_tokens_of(person: User) -> None:
    _end(Token.objects.filter(person=person))


def _end(tokens: Iterable[Token]) -> None:
    """With all that they made."""
    for token in tokens:
        Token.objects.filter(pk=token.pk, revoked_at=None).update(revoked_at=timezone.now())
        _end(Token.objects.filter(parent=token))
