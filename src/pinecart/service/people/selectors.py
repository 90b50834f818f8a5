from __future__ import annotations

import hashlib
from datetime import datetime
from typing import Any

from django.contrib.auth.models import User

from pinecart.service.config.rights import ORDER, Actor, Right
from pinecart.service.people.models import Grant, Token


def actor_of(user_id: int, token: Token | None = None) -> Actor | None:
    """The person with the rights of this moment, no more than the token carries; None if gone or switched off."""
    user = User.objects.filter(pk=user_id, is_active=True).first()
    if user is None:
        return None
    grants = tuple(Grant.objects.filter(person=user).values_list("right", "label"))
    if token is not None and token.most:
        grants = tuple((least(right, token.most), label) for right, label in grants)
    return Actor(user.username, grants, user.pk, token.pk if token else None)


def least(one: str, other: str) -> str:
    """The lesser of two rights."""
    return min(one, other, key=[r.value for r in ORDER].index)


def token_found(text: str, now: datetime) -> tuple[Token | None, str]:
    """The living token of this text, or why there is none: "unknown", "revoked", "expired"."""
    token = Token.objects.filter(digest=digest_of(text)).first()
    if token is None:
        return None, "unknown"
    if token.revoked_at:
        return None, "revoked"
    if token.expires_at and token.expires_at <= now:
        return None, "expired"
    return token, ""


def digest_of(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def people_listed() -> list[dict[str, Any]]:
    return [
        {
            "name": u.username,
            "rights": [{"right": g.right, "label": g.label} for g in u.grants.all()],
            "active": u.is_active,
        }
        for u in User.objects.order_by("username").prefetch_related("grants")
    ]


def tokens_of(actor: Actor, *, everybodys: bool) -> list[dict[str, Any]]:
    """Living ones. everybodys: only for an administrator of everything. Raises NotAllowed."""
    found = Token.objects.filter(revoked_at=None).select_related("person").order_by("id")
    if everybodys:
        actor.must(Right.ADMINISTER, [], "seeing other people's tokens")
    else:
        found = found.filter(person_id=actor.user_id)
    return [
        {
            "id": t.pk, "name": t.name, "of": t.person.username, "made_at": t.made_at, "expires_at": t.expires_at,
            "used_at": t.used_at, "right": t.most,
        }
        for t in found
    ]  # fmt: skip
