"""Sessions of browsers, and when a session or a token was last used."""

from __future__ import annotations

import logging
import threading
from datetime import datetime, timedelta

from django.contrib.auth.models import User
from django.db import OperationalError, connection, models, transaction
from django.utils import timezone

from pinecart.core.places import show
from pinecart.service.config.refusals import UnknownName
from pinecart.service.config.rights import Actor, Right
from pinecart.service.people.models import SignIn, Token
from pinecart.service.people.selectors import living_sign_ins
from pinecart.service.people.services.tokens import end_tokens_of
from pinecart.service.trail.services import note

log = logging.getLogger("pinecart.service")


@transaction.atomic
def begin_session(person: User, *, address: str, agent: str) -> int:
    """Its number, which the browser's session remembers."""
    now = timezone.now()
    made = SignIn.objects.create(
        person=person,
        begun_at=now,
        seen_at=now,
        address=address[:60],
        agent=show(agent[:150].encode())[:200],
    )
    note(Actor(person.username, ()), "signed-in", person.username, address=address)
    return made.pk


@transaction.atomic
def sign_out(actor: Actor) -> None:
    SignIn.objects.filter(pk=actor.sign_in or 0).update(ended_at=timezone.now())
    note(actor, "signed-out", actor.name)


@transaction.atomic
def end_session(actor: Actor, number: int) -> None:
    """One's own, or by an administrator anybody's, at once. Raises NotFound."""
    now = timezone.now()
    living = living_sign_ins(now).filter(pk=number)
    found = living.select_related("person").first()
    if found is None or not _may_end(actor, found):
        message = f"You have no session number {number} that goes on."
        raise UnknownName(message, code="session.unknown")
    this = SignIn.objects.filter(pk=number)
    this.update(ended_at=now)
    name = found.person.username
    note(actor, "session.ended", name, session=number, address=found.address)


def _may_end(actor: Actor, found: SignIn) -> bool:
    is_own = found.person_id == actor.user_id
    return is_own or actor.may(Right.ADMINISTER, [])


_being_noted = set[tuple[type[models.Model], int]]()


def note_use(used: Token | SignIn, last: datetime | None) -> None:
    """When it was last used, to the minute.

    Beside the request, which needn't wait for whoever is writing.
    """
    is_due = last is None or last < timezone.now() - timedelta(minutes=1)
    what = (type(used), used.pk)
    if is_due and what not in _being_noted:
        _being_noted.add(what)
        noting = threading.Thread(target=_note_use, args=what, daemon=True)
        noting.start()


def _note_use(kind: type[Token] | type[SignIn], number: int) -> None:
    now = timezone.now()
    try:
        if kind is Token:
            token = Token.objects.filter(pk=number)
            token.update(used_at=now)
        else:
            sign_in = SignIn.objects.filter(pk=number)
            sign_in.update(seen_at=now)
    except OperationalError as exc:
        log.info("When %s %s was used could not be written down: %s", kind.__name__, number, exc)
    finally:
        _being_noted.discard((kind, number))
        connection.close()


def sign_out_everywhere(person: User) -> None:
    """Sessions and tokens end."""
    end_sessions_of(person)
    end_tokens_of(person)


def end_sessions_of(person: User, *, but: int | None = None) -> None:
    SignIn.objects.filter(person=person, ended_at=None).exclude(pk=but or 0).update(
        ended_at=timezone.now()
    )
