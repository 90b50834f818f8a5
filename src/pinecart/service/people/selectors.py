from __future__ import annotations

import hashlib
from datetime import datetime, timedelta

from django.contrib.auth.models import User
from django.db.models import Max, QuerySet
from django.utils import timezone

from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import UnknownName
from pinecart.service.config.rights import ORDER, Actor, Right
from pinecart.service.config.settings import OPTIONS
from pinecart.service.people.models import EntryCode, Grant, SecondFactor, SignIn, Token

IDLE, LONGEST = timedelta(hours=2), timedelta(hours=12)  # sessions end when unused, and anyway


def living_sign_ins(now: datetime) -> QuerySet[SignIn]:
    return SignIn.objects.filter(ended_at=None, seen_at__gt=now - IDLE, begun_at__gt=now - LONGEST)


def sign_in_numbered(number: int, now: datetime) -> SignIn | None:
    """The session, if it goes on."""
    return living_sign_ins(now).filter(pk=number).first()


def person_named(name: str) -> User:
    """Raises NotFound."""
    found = User.objects.filter(username=name).first()
    if found is None:
        message = f"There is no person {name!r}."
        raise UnknownName(message, code="person.unknown")
    return found


def actor_of(user: User, token: Token | None = None, sign_in: SignIn | None = None) -> Actor | None:
    """The person, as just read, with the rights of this moment, no more than the token carries;
    None if switched off.
    """
    if not user.is_active:
        return None
    grants = tuple(Grant.objects.filter(person=user).values_list("right", "label"))
    if token is not None and token.most:
        grants = tuple((least(right, token.most), label) for right, label in grants)
    actor = Actor(
        user.username,
        grants,
        user.pk,
        token=token.pk if token else None,
        sign_in=sign_in.pk if sign_in else None,
        starts=token.starts if token else "",
        reads_calendar=token is not None and token.reads_calendar,
    )
    is_due = OPTIONS.second_factor == "administrators" and actor.may(Right.ADMINISTER)
    return actor._replace(lacks_factor=is_due and not has_second_factor(user.pk))


def has_second_factor(user_id: int) -> bool:
    return SecondFactor.objects.filter(person_id=user_id).exclude(confirmed_at=None).exists()


def least(one: str, other: str) -> str:
    """The lesser of two rights."""
    return min(one, other, key=[r.value for r in ORDER].index)


def token_found(text: str, now: datetime) -> tuple[Token | None, str]:
    """The living token of this text with its person, or why there is none: "unknown", "revoked",
    "expired".
    """
    token = Token.objects.select_related("person").filter(digest=digest_of(text)).first()
    if token is None:
        return None, "unknown"
    if token.revoked_at:
        return None, "revoked"
    if token.expires_at and token.expires_at <= now:
        return None, "expired"
    return token, ""


def digest_of(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def people_listed() -> list[JsonObject]:
    now = timezone.now()
    found = User.objects.order_by("username").prefetch_related("grants")
    with_factor = set(
        SecondFactor.objects.exclude(confirmed_at=None).values_list("person_id", flat=True)
    )
    codes = dict(
        EntryCode.objects.filter(used_at=None, expires_at__gt=now).values_list(
            "person_id", "expires_at"
        )
    )
    seen = dict(SignIn.objects.values_list("person_id").annotate(Max("seen_at")))
    return [
        {
            "name": person.username,
            "rights": [{"right": g.right, "label": g.label} for g in person.grants.all()],
            "active": person.is_active,
            "second_factor": person.pk in with_factor,
            "code_ends_at": codes.get(person.pk),
            "seen_at": seen.get(person.pk),
        }
        for person in found
    ]


def sessions_of(actor: Actor, *, everybodys: bool) -> list[JsonObject]:
    """Those that go on. everybodys: only for an administrator of everything. Raises NotAllowed."""
    found = living_sign_ins(timezone.now()).select_related("person").order_by("-seen_at")
    if everybodys:
        actor.must(Right.ADMINISTER, [], "seeing other people's sessions")
    else:
        found = found.filter(person_id=actor.user_id)
    return [
        {
            "id": s.pk,
            "of": s.person.username,
            "begun_at": s.begun_at,
            "seen_at": s.seen_at,
            "address": s.address,
            "agent": s.agent,
            "this": s.pk == actor.sign_in,
        }
        for s in found
    ]


def tokens_of(actor: Actor, *, everybodys: bool) -> list[JsonObject]:
    """Living ones. everybodys: only for an administrator of everything. Raises NotAllowed."""
    now = timezone.now()
    found = (
        Token.objects.filter(revoked_at=None)
        .exclude(expires_at__lt=now)
        .select_related("person")
        .order_by("id")
    )
    if everybodys:
        actor.must(Right.ADMINISTER, [], "seeing other people's tokens")
    else:
        found = found.filter(person_id=actor.user_id)
    return [
        {
            "id": t.pk,
            "name": t.name,
            "of": t.person.username,
            "made_at": t.made_at,
            "expires_at": t.expires_at,
            "used_at": t.used_at,
            "right": t.most,
            "starts": t.starts,
            "reads_calendar": t.reads_calendar,
        }
        for t in found
    ]
