from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from typing import Any

from django.db import transaction
from django.utils import timezone

from pinecart.core.places import shown_lines
from pinecart.json_object import JsonObject
from pinecart.service.config.rights import Actor, Right
from pinecart.service.trail.models import Line


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
    subject = shown_lines(subject)
    before = Line.objects.order_by("-id").values_list("digest", flat=True).first() or ""
    at = timezone.now()
    Line.objects.create(
        at=at,
        who=actor.name,
        action=action,
        subject=subject,
        facts=facts,
        digest=digest_of(before, at.isoformat(), actor.name, action, subject, facts),
    )


def changed(before: JsonObject, after: JsonObject) -> JsonObject:
    """Of a change, the facts that differ: {"before": …, "after": …}."""
    differ = [k for k in before | after if before.get(k) != after.get(k)]
    return {
        "before": {k: before.get(k) for k in differ},
        "after": {k: after.get(k) for k in differ},
    }


def digest_of(before: str, *fields: Any) -> str:
    return hashlib.sha256(json.dumps([before, *fields], sort_keys=True).encode()).hexdigest()
