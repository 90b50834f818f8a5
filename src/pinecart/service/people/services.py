from __future__ import annotations

import logging
import secrets
import threading
from collections.abc import Iterable
from datetime import timedelta

from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import OperationalError, connection, transaction
from django.utils import timezone

from pinecart.core.errors import Invalid
from pinecart.core.places import is_name, shown_lines
from pinecart.service.config.refusals import Conflict, NotAllowed, NotFound
from pinecart.service.config.rights import Actor, Right
from pinecart.service.people.models import Failures, Grant, Token
from pinecart.service.people.selectors import digest_of, least
from pinecart.service.trail.services import note

log = logging.getLogger("pinecart.service")
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
def make_token(actor: Actor, *, person: str, name: str, days: int | None, right: str = "") -> str:
    """A new token's text, told this once. For somebody else only by an administrator. days None: does not expire.

    right: it carries no more than this one. What a token makes carries no more than itself, and ends with it.
    """
    if person != actor.name:
        actor.must(Right.ADMINISTER, [], "making somebody else's token")
    user = User.objects.filter(username=person).first()
    if user is None:
        raise NotFound(f"There is no person {person!r}.", code="person.unknown")
    text = f"pct_{secrets.token_urlsafe(32)}"
    now = timezone.now()
    expires = now + timedelta(days=days) if days is not None else None
    parent = Token.objects.filter(pk=actor.token or 0).first()
    if parent is not None:
        expires = min((e for e in (expires, parent.expires_at) if e), default=None)
        right = least(right or Right.ADMINISTER, parent.most) if parent.most else right
    Token.objects.create(
        person=user,
        name=shown_lines(name),
        digest=digest_of(text),
        made_at=now,
        expires_at=expires,
        most=right,
        parent=parent,
    )
    note(actor, "token.made", person, name=name, right=right)
    return text


def _names(person: str, address: str) -> dict[str, str]:
    return {"person": f"person {person[:150]}", "address": f"address {address[:60]}"}


def _end_tokens(tokens: Iterable[Token]) -> None:
    """With all that they made."""
    for token in tokens:
        Token.objects.filter(pk=token.pk, revoked_at=None).update(revoked_at=timezone.now())
        _end_tokens(Token.objects.filter(parent=token))


_being_noted = set[int]()  # tokens


def note_use(token: Token) -> None:
    """When it was last used, to the minute. Beside the request, which needn't wait for whoever is writing."""
    is_due = token.used_at is None or token.used_at < timezone.now() - timedelta(minutes=1)
    if is_due and token.pk not in _being_noted:
        _being_noted.add(token.pk)
        threading.Thread(target=_note_use, args=(token.pk,), daemon=True).start()


def _note_use(number: int) -> None:
    try:
        Token.objects.filter(pk=number).update(used_at=timezone.now())
    except OperationalError as exc:
        log.info("When token %s was used could not be written down: %s", number, exc)
    finally:
        _being_noted.discard(number)
        connection.close()


@transaction.atomic
def change_person(
    actor: Actor, name: str, *, active: bool | None, password: str | None, rights: list[tuple[str, str]] | None
) -> None:
    """Switch off or on, give other rights, or a new password. Whoever is switched off, or whose password was reset, is signed
    out everywhere at once, and their tokens end. Raises NotFound, Invalid, Conflict (the last administrator), NotAllowed.
    """
    actor.must(Right.ADMINISTER, [], "changing people")
    user = User.objects.filter(username=name).first()
    if user is None:
        raise NotFound(f"There is no person {name!r}.", code="person.unknown")
    before = {
        "active": user.is_active,
        "rights": sorted(Grant.objects.filter(person=user).values_list("right", "label")),
    }
    if password is not None:
        _must_be_strong(name, password)
        user.set_password(password)
    if active is not None:
        user.is_active = active
    user.save()
    if rights is not None:
        _must_be_rights(rights)
        Grant.objects.filter(person=user).delete()
        Grant.objects.bulk_create([Grant(person=user, right=r, label=label) for r, label in rights])
    if password is not None or active is False:
        _end_tokens(Token.objects.filter(person=user))
    if not Grant.objects.filter(right=Right.ADMINISTER, label="", person__is_active=True).exists():
        raise Conflict(
            "Nobody would be left who may administer everything. Give somebody else that right first.",
            code="person.last",
        )
    after = {
        "active": user.is_active,
        "rights": sorted(Grant.objects.filter(person=user).values_list("right", "label")),
    }
    note(actor, "person.changed", name, before=before, after=after, new_password=password is not None)


def _must_be_rights(rights: list[tuple[str, str]]) -> None:
    if odd := [r for r, _ in rights if r not in list(Right)]:
        message = f"{odd[0]!r} is no right. They are look, operate, define, administer."
        raise Invalid([{"field": "rights", "code": "person.malformed", "message": message}])


@transaction.atomic
def change_own_password(actor: Actor, *, old: str, new: str) -> None:
    """Every other session of theirs ends. Raises NotAllowed if the old one isn't right, Invalid."""
    user = User.objects.get(pk=actor.user_id or 0)
    if not user.check_password(old):
        raise NotAllowed("The present password is not right. Nothing was changed.", code="password.wrong")
    _must_be_strong(user.username, new)
    user.set_password(new)
    user.save()
    note(actor, "password.changed", user.username)


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
    _end_tokens([token])
    note(actor, "token.revoked", token.person.username, name=token.name)
