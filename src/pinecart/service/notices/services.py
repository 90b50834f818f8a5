from __future__ import annotations

import re
import secrets
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any
from urllib.parse import urlsplit

from django.db import transaction
from django.utils import timezone

from pinecart.core.errors import Invalid
from pinecart.core.happenings import GIVEN_UP_AFTER, Kind, next_wait
from pinecart.core.hours import parse_day_time, parse_hours
from pinecart.core.option_spec import Problems
from pinecart.core.places import parse_location
from pinecart.json_object import JsonObject
from pinecart.service.config.rights import Actor, Right
from pinecart.service.config.settings import STATE
from pinecart.service.notices.models import (
    Delivery,
    HappeningRow,
    MailServer,
    NoticeRule,
    Seen,
)
from pinecart.service.notices.selectors import (
    mail_told,
    names_awaited,
    rule_numbered,
    rule_told,
    rules_for,
)
from pinecart.service.stores.selectors import store_named
from pinecart.service.trail.services import change, changed

_MAIL = re.compile(r"[^@\s,;<>\"']+@[^@\s,;<>\"']+")
CLEARED_AT_ONCE = 500
SECURITY = ("tls", "starttls", "none")


# --- who is told


def add_rule(actor: Actor, given: Mapping[str, Any]) -> tuple[NoticeRule, str]:
    """And the secret that its calls are signed with, which is told this once; empty: of e-mail.

    Raises Invalid, NotAllowed.
    """
    fields = _read_rule(given)
    secret = secrets.token_urlsafe(32) if fields["way"] == "web" else ""
    with change(actor) as made:
        made.must(Right.ADMINISTER, [], "changing who is told")
        sealed = STATE.seal({"secret": secret}) if secret else None
        rule = NoticeRule.objects.create(**fields, sealed=sealed, made_at=timezone.now())
        made.note("notice.added", f"notice {rule.pk}", **fields)
    return rule, secret


def change_rule(actor: Actor, number: int, given: Mapping[str, Any]) -> NoticeRule:
    """Raises Invalid, NotAllowed, NotFound."""
    with change(actor) as made:
        made.must(Right.ADMINISTER, [], "changing who is told")
        rule = rule_numbered(number)
        before = rule_told(rule)
        fields = _read_rule({**before, **given})
        NoticeRule.objects.filter(pk=number).update(**fields)
        rule.refresh_from_db()
        made.note("notice.changed", f"notice {number}", **changed(before, rule_told(rule)))
    return rule


def drop_rule(actor: Actor, number: int) -> None:
    """Raises NotAllowed, NotFound."""
    with change(actor) as made:
        made.must(Right.ADMINISTER, [], "changing who is told")
        rule = rule_numbered(number)
        told = rule_told(rule)
        rule.delete()
        made.note("notice.dropped", f"notice {number}", way=told["way"], to=told["to"])


def _read_address(reading: Problems, way: str, one: str) -> None:
    """way: "mail", "web" or "marker"."""
    if way == "mail" and not _MAIL.fullmatch(one):
        reading.wrong("to", "notice.address", f"{one!r} is no e-mail address.")
    if way == "web":
        problem = _wrong_address(one)
        if problem:
            reading.wrong("to", "notice.address", f"{one!r}: {problem}")
    if way == "marker":
        reading.nested(_marker_place, one)


def _read_rule(given: Mapping[str, Any]) -> JsonObject:
    """Raises Invalid, with all that is wrong."""
    reading = Problems()
    way = given["way"]
    to = [str(one).strip() for one in given["to"]]
    for one in to:
        _read_address(reading, way, one)
    if not to or (way != "mail" and len(to) != 1):
        reading.wrong("to", "notice.address", "Say whom: addresses, or the one that is called.")
    for name, parse in (("quiet", parse_hours), ("once_at", parse_day_time)):
        _read_when(reading, name, parse, given[name])
    kinds = sorted(given["kinds"])
    if not kinds:
        reading.wrong("kinds", "notice.kinds", "Say what of: at least one kind.")
    if reading.problems:
        raise Invalid(reading.problems)
    rule: JsonObject = {"way": way, "to": to, "kinds": kinds}
    for name in ("job", "label", "is_on", "quiet", "once_at"):
        rule[name] = given[name]
    return rule


def _read_when(reading: Problems, name: str, parse: Callable[[str], object], text: str) -> None:
    """Empty is no fault here: whether it may be left out is the rule's to say. What is wrong is
    told under its own name.
    """
    try:
        if text:
            parse(text)
    except Invalid as exc:
        (problem,) = exc.problems
        reading.wrong(name, problem["code"], problem["message"])


def _marker_place(text: str) -> None:
    """Raises Invalid, NotFound where it is no object's place in a store that is known."""
    place = parse_location(text, field="to")
    store_named(place.store)
    if not place.path or place.path.endswith(b"/"):
        message = f"{text}: give the marker's whole name, such as pine://office/larkfell/done.json."
        raise Invalid([{"field": "to", "code": "notice.marker", "message": message}])


def _wrong_address(text: str) -> str:
    """Empty: it may be called. The password of an address would be shown to all who may see the
    rule.
    """
    url = urlsplit(text)
    if url.scheme not in ("http", "https") or not url.hostname or url.username or url.password:
        return "write it as https://HOST/PATH, without a password."
    return ""


def change_mail(actor: Actor, given: Mapping[str, Any]) -> JsonObject:
    """Where e-mail is handed in. password: as it was, where it isn't given and host and user stay.

    Raises Invalid, NotAllowed.
    """
    fields = {
        name: given[name] for name in ("host", "port", "security", "user", "sender", "address")
    }
    reading = Problems()
    if not _MAIL.fullmatch(fields["sender"]):
        reading.wrong("sender", "notice.address", f"{fields['sender']!r} is no e-mail address.")
    if fields["address"] and (problem := _wrong_address(fields["address"])):
        reading.wrong("address", "notice.address", f"{fields['address']!r}: {problem}")
    if reading.problems:
        raise Invalid(reading.problems)
    with change(actor) as made:
        made.must(Right.ADMINISTER, [], "changing the mail server")
        before = MailServer.objects.first()
        told = mail_told()
        stays = before and (before.host, before.user) == (fields["host"], fields["user"])
        sealed = before.sealed if before and stays else None
        if given.get("password"):
            sealed = STATE.seal({"password": given["password"]})
        MailServer.objects.all().delete()
        MailServer.objects.create(**fields, sealed=sealed)
        facts = changed(told, mail_told())
        made.note(
            "mail.changed", "mail", **facts, password="changed" if given.get("password") else ""
        )
    return mail_told()


# --- what happens


@transaction.atomic(savepoint=False)
def happened(
    name: str,
    kind: Kind,
    job: str,
    labels: Sequence[str],
    at: datetime,
    words: str,
    path: str,
    run: int | None = None,
) -> None:
    """Once for each name: it is written down, and set on its way to all who want to know."""
    row, is_new = HappeningRow.objects.get_or_create(
        name=name[:120],
        defaults={
            "kind": kind.value,
            "job": job,
            "labels": list(labels),
            "run": run,
            "at": at,
            "words": words,
            "path": path,
        },
    )
    if is_new:
        for rule in rules_for(kind, job, labels):
            Delivery.objects.create(rule=rule, happening=row, next_try=at)


def awaited_no_more(job: str, still: set[str], now: datetime) -> None:
    """Of what was expected of a job all but these has come."""
    names_awaited(job).exclude(name__in=still).update(over_at=now)


def seen_up_to() -> int:
    return Seen.objects.get_or_create(pk=1)[0].event


def set_seen(event: int) -> None:
    Seen.objects.filter(pk=1).update(event=event)


@transaction.atomic(savepoint=False)
def clear_told(now: datetime, days: int) -> bool:
    """One step: what happened so long ago is forgotten. False: there was nothing to do."""
    if not days:
        return False
    until = now - timedelta(days=days)
    old = HappeningRow.objects.filter(at__lt=until).order_by("at")
    numbers = old.values_list("pk", flat=True)
    some = list(numbers[:CLEARED_AT_ONCE])
    deleted, _ = HappeningRow.objects.filter(pk__in=some).delete()
    return deleted > 0


# --- on its way


@transaction.atomic(savepoint=False)
def sent(numbers: Sequence[int], now: datetime) -> None:
    for row in Delivery.objects.filter(pk__in=numbers):
        row.tries = row.tries + 1
        row.sent_at = now
        row.message = ""
        row.save(update_fields=["tries", "sent_at", "message"])


@transaction.atomic(savepoint=False)
def not_sent(numbers: Sequence[int], why: str, now: datetime) -> None:
    """They are tried again, all together, so that they arrive in their order."""
    found = Delivery.objects.filter(pk__in=numbers)
    rows = list(found.select_related("happening"))
    tries = max(row.tries for row in rows) + 1
    next_try = now + next_wait(tries)
    for row in rows:
        row.tries = tries
        row.next_try = next_try
        row.message = why[:500]
        since = now - row.happening.at
        row.given_up = since > GIVEN_UP_AFTER
        row.save(update_fields=["tries", "message", "next_try", "given_up"])
