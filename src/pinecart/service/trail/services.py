from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.utils import timezone

from pinecart.core.places import shown_lines
from pinecart.core.trail_chain import HEAD_FORM, ChainEntry, link
from pinecart.json_object import JsonObject
from pinecart.service.config.rights import Actor, Right
from pinecart.service.config.settings import STATE
from pinecart.service.trail.models import Head, Line
from pinecart.service.trail.selectors import head_now
from pinecart.signed_lines import as_text, signed_text

SIGN_EVERY = timedelta(hours=1)


class Change:
    """One change that a person makes, within its transaction: what right it asks for, and what of
    it is in the trail. It has both before it ends.
    """

    def __init__(self, actor: Actor) -> None:
        self.actor = actor
        self.is_allowed = self.is_noted = False

    def must(self, right: Right, labels: Iterable[str] | None, what: str) -> None:
        """Raises RightMissing."""
        self.actor.must(right, labels, what)
        self.is_allowed = True

    def note(self, action: str, subject: str, **facts: Any) -> None:
        note(self.actor, action, subject, **facts)
        self.is_noted = True


@contextmanager
def change(actor: Actor) -> Iterator[Change]:
    """Check, transaction and trail of a change, in one; within another's transaction it is all of
    that or nothing.
    """
    with transaction.atomic(savepoint=False):
        made = Change(actor)
        yield made
        if not (made.is_allowed and made.is_noted):
            raise AssertionError("A change asks for a right, and leaves a line in the trail.")


@transaction.atomic(savepoint=False)
def note(actor: Actor, action: str, subject: str, **facts: Any) -> None:
    """Add one line to the trail, in the transaction of the change that it tells of.

    Never a secret among the facts.
    """
    number, before = head_now()
    at = timezone.now()
    entry = ChainEntry(
        number + 1,
        at.isoformat(),
        actor.name,
        actor.address,
        action,
        shown_lines(subject),
        json.loads(json.dumps(facts)),
        "",
    )
    Line.objects.create(
        id=entry.number,
        at=at,
        who=entry.who,
        address=entry.address,
        action=action,
        subject=entry.subject,
        facts=entry.facts,
        digest=link(STATE.trail_key, before, entry),
    )


def sign_head(now: datetime) -> None:
    """Once an hour, where something was added since: how far the trail has come, signed."""
    head = head_now()
    if not head.lines:
        return
    last = Head.objects.order_by("-id").first()
    if last is not None:
        is_soon = last.at > now - SIGN_EVERY
        if is_soon or last.count == head.lines:
            return
    text = signed_text(HEAD_FORM, head.lines, head.digest, now.isoformat())
    signature = as_text(STATE.sign_key.sign(text))
    Head.objects.create(at=now, count=head.lines, digest=head.digest, signature=signature)


def changed(before: JsonObject, after: JsonObject) -> JsonObject:
    """Of a change, the facts that differ: {"before": …, "after": …}."""
    differ = [k for k in before | after if before.get(k) != after.get(k)]
    return {
        "before": {k: before.get(k) for k in differ},
        "after": {k: after.get(k) for k in differ},
    }
