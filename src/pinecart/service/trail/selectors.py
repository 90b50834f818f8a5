from __future__ import annotations

import base64
import json
from collections.abc import Iterator
from datetime import UTC, date, datetime, time, timedelta
from typing import Any, NamedTuple

from django.db import connection
from django.db.models import TextField
from django.db.models.functions import Cast

from pinecart.core.trail_chain import (
    HEAD_FORM,
    ChainEntry,
    ChainFault,
    ChainHead,
    Verified,
    verify,
)
from pinecart.json_object import JsonObject
from pinecart.service.config.settings import STATE
from pinecart.service.trail.models import Head, Line
from pinecart.signed_lines import is_signed, public_text, signed_text

CHAINED = ("id", "written", "who", "address", "action", "subject", "facts", "digest")
PAGE = 5000
decode = json.JSONDecoder().decode


def lines_before(
    number: int | None,
    limit: int,
    *,
    who: str = "",
    what: str = "",
    which: str = "",
    since: date | None = None,
    until: date | None = None,
) -> list[JsonObject]:
    """Newest first, from before line `number` on.

    what: the action, or what it begins with before a dot.   which: is in its subject.   since,
    until: days, in UTC.
    """
    found = Line.objects.order_by("-id")
    if number is not None:
        found = found.filter(pk__lt=number)
    if who:
        found = found.filter(who=who)
    if what:
        found = found.filter(action=what) | found.filter(action__startswith=f"{what}.")
    if which:
        found = found.filter(subject__contains=which)
    if since:
        found = found.filter(at__gte=_begin_of(since))
    if until:
        found = found.filter(at__lt=_begin_of(until) + timedelta(days=1))
    return [
        dict(line)
        for line in found.values("id", "at", "who", "address", "action", "subject", "facts")[:limit]
    ]


def head_now() -> ChainHead:
    """How far the trail has come."""
    last = Line.objects.order_by("-id").values_list("id", "digest").first()
    if last:
        return ChainHead(*last)
    return ChainHead(0, "")


class SignedHead(NamedTuple):
    """A head of the trail, for whoever keeps it elsewhere."""

    lines: int
    digest: str
    at: str
    signature: str


def heads_signed(limit: int = 1) -> list[SignedHead]:
    """The newest first."""
    rows = Head.objects.order_by("-id")[:limit]
    return [SignedHead(row.count, row.digest, row.at.isoformat(), row.signature) for row in rows]


def chain_entries() -> Iterator[ChainEntry]:
    """The whole trail, in order."""
    after = 0
    while page := _rows_after(after):
        for number, at, who, address, action, subject, facts, digest in page:
            told = decode(facts)
            yield ChainEntry(
                number, f"{at.replace(' ', 'T')}+00:00", who, address, action, subject, told, digest
            )
        after = page[-1][0]


def _rows_after(number: int) -> list[Any]:
    """As the database gives them: what the ORM does with each would double a verification."""
    written = Cast("at", TextField())
    lines = Line.objects.filter(pk__gt=number).annotate(written=written)
    rows = lines.order_by("pk").values_list(*CHAINED)[:PAGE]
    sql, params = rows.query.sql_with_params()
    with connection.cursor() as cursor:
        cursor.execute(sql, params)
        return cursor.fetchall()


def verified(outside: ChainHead | None = None) -> Verified:
    """Whether the trail is as it was written, by its chain, the heads that were signed, and one
    that was kept elsewhere.
    """
    public = public_text(STATE.sign_key.public_key())
    heads = list[ChainHead]()
    faults = list[ChainFault]()
    for row in Head.objects.order_by("id"):
        text = signed_text(HEAD_FORM, row.count, row.digest, row.at.isoformat())
        signature = base64.b64decode(row.signature)
        if is_signed(text, signature, public):
            heads.append(ChainHead(row.count, row.digest))
        else:
            faults.append(ChainFault(row.count, "The head signed here was altered."))
    if outside:
        heads.append(outside)
    found = verify(STATE.trail_key, chain_entries(), heads)
    return found._replace(faults=faults + found.faults)


def _begin_of(day: date) -> datetime:
    return datetime.combine(day, time(), UTC)
