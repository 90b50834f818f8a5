"""When jobs come due by themselves."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta

from django.utils import timezone

from pinecart.core.dated_places import zone_of
from pinecart.core.definition import Definition
from pinecart.core.schedule import parse_schedule
from pinecart.core.schedule_words import cron_of
from pinecart.core.triggers import Trigger, TriggerState
from pinecart.json_object import JsonObject
from pinecart.service.config.rights import Actor
from pinecart.service.jobs.models import JobRecord
from pinecart.service.jobs.selectors import JobLine, definition_of, lines_seen


def due_after(
    definition: Definition, now: datetime, last_due: datetime | None = None
) -> datetime | None:
    """When a job comes due by itself after `now`; None: only when somebody starts it."""
    if definition.trigger is None:
        return None
    later = timedelta(seconds=_later_s(definition))
    planned = last_due - later if last_due else None
    due = definition.trigger.due(now - later, TriggerState(planned))
    if due:
        return due + later
    return None


def audit_after(definition: Definition, now: datetime) -> datetime | None:
    """When a job is audited by itself after `now`; None: only when somebody starts it."""
    text = definition["audit_at"]
    if not text:
        return None
    return parse_schedule(cron_of(text) or text, zone_of(definition)).after(now)


def set_next_audit(record: JobRecord, due: datetime | None) -> None:
    JobRecord.objects.filter(pk=record.pk).update(next_audit=due)


def _later_s(definition: Definition) -> int:
    """Of the job's spread the part that is its own: always the same, by its name."""
    spread_s = definition.spread_s
    if not spread_s:
        return 0
    digest = hashlib.sha256(definition.job.encode()).digest()
    return int.from_bytes(digest[:8]) % spread_s


MOST_AT_ONCE = 60  # starts that one turn of the clock makes up for; the next turn goes on
FAR = timedelta(days=366 * 9)  # from one 29th of February to the next but one


def starts_of(definition: Definition, due: datetime, now: datetime) -> list[datetime]:
    """The starts to be made now of a job that was due first at `due`: one, or, where each that was
    missed is made up for, the oldest MOST_AT_ONCE up to now.
    """
    found = [due]
    while definition["catch_up"] == "each" and len(found) < MOST_AT_ONCE:
        following = due_after(definition, found[-1], found[-1])
        if following is None or following > now:
            break
        found.append(following)
    return found


def due_following(
    definition: Definition, starts: Sequence[datetime], now: datetime
) -> datetime | None:
    """When it comes due after these starts: where each is made up for it may be past already."""
    if definition["catch_up"] == "each":
        return due_after(definition, starts[-1], starts[-1])
    return due_after(definition, now, starts[-1])


def due_anew(now: datetime, *, all_of_them: bool) -> int:
    """Work out again when jobs are due next; how many that changed.

    Without `all_of_them` only what is due later than it can be.
    """
    changed = 0
    for record in JobRecord.objects.exclude(next_due=None):
        due = due_after(definition_of(record), now)
        if due != record.next_due and (
            all_of_them or (due is not None and record.next_due and record.next_due > due)
        ):
            changed += JobRecord.objects.filter(pk=record.pk, next_due=record.next_due).update(
                next_due=due
            )
    return changed


def set_after_seen(record: JobRecord, ended_at: datetime) -> None:
    JobRecord.objects.filter(pk=record.pk).update(after_seen=ended_at)


def set_next_due(record: JobRecord, due: datetime | None) -> None:
    JobRecord.objects.filter(pk=record.pk).update(next_due=due)


def next_due(definition: Definition, most: int, until: datetime | None = None) -> list[datetime]:
    """The next times that a job starts by itself; `most` at most, none later than `until`."""
    trigger = definition.trigger
    if trigger is None:
        return []
    now = timezone.now()
    last = until or now + FAR
    later = timedelta(seconds=_later_s(definition))
    upcoming = trigger.upcoming(now - later, most, last - later)
    return [due + later for due in upcoming]


MOST_SHOWN = 200  # due times of one job, within the days that are asked for


def schedule_seen(actor: Actor, days: int) -> list[JsonObject]:
    """What will run when, the next first."""
    until = timezone.now() + timedelta(days=days)
    found = []
    for record in _in_their_order(lines_seen(actor)):
        definition = definition_of(record)
        due = next_due(definition, MOST_SHOWN, until) if record.is_on else []
        found.append(_told(record, definition.trigger, due))
    return found


def due_first(records: Iterable[JobLine], most: int) -> list[JsonObject]:
    """Of the jobs that are on, those that come due first."""
    on = [record for record in _in_their_order(records) if record.is_on]
    return [_told(record, definition_of(record).trigger, [record.next_due]) for record in on[:most]]


def _in_their_order(records: Iterable[JobLine]) -> list[JobLine]:
    timed = [record for record in records if record.next_due]
    return sorted(timed, key=lambda record: (record.next_due, record.name))


def _told(record: JobLine, trigger: Trigger | None, due: Sequence[datetime | None]) -> JsonObject:
    return {
        "job": record.name,
        "title": record.definition["title"],
        "when": trigger.describe() if trigger else "",
        "schedule": record.definition["schedule"],
        "next_due": record.next_due,
        "due": due,
        "is_on": record.is_on,
    }
