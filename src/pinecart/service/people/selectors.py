from __future__ import annotations

import hashlib
from datetime import datetime
from typing import Any

from django.contrib.auth.models import User
from django.db.models import Q

from pinecart.service.config.rights import Actor
from pinecart.service.people.models import Grant, Token


def actor_of(user_id: int) -> Actor | None:
    """The person with the rights of this moment; None if gone or switched off."""
    user = User.objects.filter(pk=user_id, is_active=True).first()
    if user is None:
        return None
    return Actor(user.username, tuple(Grant.objects.filter(person=user).values_list("right", "label")), user.pk)


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


def tokens_of(actor: Actor) -> list[dict[str, Any]]:
    found = Token.objects.filter(Q(person_id=actor.user_id), revoked_at=None).order_by("id")
    return [{"id": t.pk, "name": t.name, "made_at": t.made_at, "expires_at": t.expires_at} for t in found]
