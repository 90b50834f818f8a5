from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta
from typing import Protocol

from django.db.models import Min, Q, QuerySet

from pinecart.core.happenings import Happening, Kind
from pinecart.core.hours import parse_day_time, parse_hours
from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import UnknownName
from pinecart.service.config.rights import Actor, Right
from pinecart.service.config.settings import OPTIONS, STATE
from pinecart.service.notices.models import Delivery, HappeningRow, MailServer, NoticeRule

GATHERED = timedelta(seconds=10)  # what happens within it goes into one message
LATEST = 200
OPEN_KINDS = (Kind.NOT_COME.value, Kind.LATE.value)


class Rule(Protocol):
    """See models.NoticeRule."""

    @property
    def pk(self) -> int: ...
    @property
    def way(self) -> str: ...
    @property
    def to(self) -> list[str]: ...
    @property
    def sealed(self) -> bytes | memoryview | None: ...


def rules() -> list[NoticeRule]:
    return list(NoticeRule.objects.order_by("id"))


def rule_numbered(number: int) -> NoticeRule:
    """Raises NotFound."""
    found = NoticeRule.objects.filter(pk=number).first()
    if found is None:
        raise UnknownName(f"There is no notice {number}.", code="notice.unknown")
    return found


def rule_told(rule: NoticeRule) -> JsonObject:
    waiting = Delivery.objects.filter(rule=rule, sent_at=None, given_up=False)
    last = Delivery.objects.filter(rule=rule).exclude(sent_at=None).order_by("-sent_at").first()
    failing = waiting.exclude(message="").order_by("id").first()
    return {
        "id": rule.pk,
        "way": rule.way,
        "to": rule.to,
        "kinds": rule.kinds,
        "job": rule.job,
        "label": rule.label,
        "is_on": rule.is_on,
        "quiet": rule.quiet,
        "once_at": rule.once_at,
        "waiting": waiting.count(),
        "sent_at": last.sent_at if last else None,
        "message": failing.message if failing else "",
    }


def rules_for(kind: Kind, job: str, labels: Iterable[str]) -> list[NoticeRule]:
    of_labels = Q(label="") | Q(label__in=list(labels))
    found = NoticeRule.objects.filter(of_labels, is_on=True, job__in=("", job))
    return [rule for rule in found if kind.value in rule.kinds]


def secret_of_rule(rule: Rule) -> str:
    if rule.sealed:
        return STATE.unseal(bytes(rule.sealed))["secret"]
    return ""


def mail_server() -> MailServer | None:
    return MailServer.objects.first()


def mail_told() -> JsonObject:
    """Never its password."""
    found = mail_server()
    if found is None:
        found = MailServer(host="", port=587, security="starttls", sender="")
    names = ("host", "port", "security", "user", "sender", "address")
    told = {name: getattr(found, name) for name in names}
    return {**told, "has_password": found.sealed is not None}


def password_of(server: MailServer) -> str:
    if server.sealed:
        return STATE.unseal(bytes(server.sealed))["password"]
    return ""


def console_address() -> str:
    """What links in messages begin with."""
    found = mail_server()
    return (found.address if found else "").rstrip("/") or OPTIONS.url


def happening_of(row: HappeningRow) -> Happening:
    return Happening(row.name, Kind(row.kind), row.job, row.run, row.at, row.words, row.path)


def due_together(now: datetime) -> list[tuple[NoticeRule, list[Delivery]]]:
    """For each rule what is to be sent now, in the order in which it happened.

    Nothing in its quiet hours; of one that is told once a day, what happened until then.
    """
    waiting = Delivery.objects.filter(sent_at=None, given_up=False)
    numbers = (
        waiting.filter(next_try__lte=now)
        .values("rule")
        .annotate(first=Min("happening__at"))
        .filter(first__lte=now - GATHERED)
    )
    found = []
    for rule in NoticeRule.objects.filter(pk__in=[row["rule"] for row in numbers], is_on=True):
        if rule.quiet and parse_hours(rule.quiet).include(now):
            continue
        until = parse_day_time(rule.once_at).last(now) if rule.once_at else now
        of_it = waiting.filter(rule=rule, happening__at__lte=until).select_related("happening")
        together = list(of_it.order_by("happening_id")[:LATEST])
        if together:
            found.append((rule, together))
    return found


def deliveries(actor: Actor, *, rule: int = 0, limit: int = LATEST) -> list[JsonObject]:
    """The newest first."""
    actor.must(Right.ADMINISTER, [], "looking at notices")
    rows = Delivery.objects.select_related("rule", "happening").order_by("-id")
    found = rows.filter(rule_id=rule) if rule else rows
    return [
        {
            "id": row.pk,
            "notice": row.rule_id,
            "way": row.rule.way,
            "to": row.rule.to,
            **happening_told(row.happening),
            "tries": row.tries,
            "sent_at": row.sent_at,
            "next_try": None if row.sent_at or row.given_up else row.next_try,
            "given_up": row.given_up,
            "message": row.message,
        }
        for row in found[:limit]
    ]


def happening_told(row: HappeningRow) -> JsonObject:
    names = ("name", "kind", "job", "run", "at", "words", "path", "over_at")
    return {name: getattr(row, name) for name in names}


def still_awaited(jobs: Iterable[str]) -> list[JsonObject]:
    """What was expected of these jobs and hasn't come yet."""
    wanted = set(jobs)
    open_ones = HappeningRow.objects.filter(kind__in=OPEN_KINDS, over_at=None)
    rows = open_ones.order_by("at")
    return [happening_told(row) for row in rows if row.job in wanted]


def unusual_since(jobs: Iterable[str], moment: datetime) -> list[JsonObject]:
    """The runs of these jobs that were unlike those before them, the newest first."""
    wanted = set(jobs)
    kind = Kind.UNUSUAL.value
    found = HappeningRow.objects.filter(kind=kind, at__gte=moment)
    rows = found.order_by("-at")
    return [happening_told(row) for row in rows if row.job in wanted]


def awaited_count() -> int:
    return HappeningRow.objects.filter(kind__in=OPEN_KINDS, over_at=None).count()


def waiting_count() -> int:
    return Delivery.objects.filter(sent_at=None, given_up=False).count()


def names_awaited(job: str) -> QuerySet[HappeningRow]:
    return HappeningRow.objects.filter(job=job, kind__in=OPEN_KINDS, over_at=None)
