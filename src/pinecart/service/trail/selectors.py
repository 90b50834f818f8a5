from __future__ import annotations

from datetime import UTC, date, datetime, time, timedelta

from pinecart.json_object import JsonObject
from pinecart.service.trail.models import Line


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
        dict(line) for line in found.values("id", "at", "who", "action", "subject", "facts")[:limit]
    ]


def _begin_of(day: date) -> datetime:
    return datetime.combine(day, time(), UTC)
