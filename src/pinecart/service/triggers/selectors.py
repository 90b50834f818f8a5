from __future__ import annotations

from datetime import datetime

from django.db.models import Q, QuerySet

from pinecart.core.triggers import AFTER, CHANGES, read_trigger
from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import UnknownName
from pinecart.service.config.rights import Actor
from pinecart.service.jobs.facts import JobFacts
from pinecart.service.jobs.selectors import jobs_seen
from pinecart.service.triggers.facts import WatchFacts
from pinecart.service.triggers.models import Watch


def _watches() -> QuerySet[Watch]:
    """What is known of a source may be megabytes: it is read only where somebody asks for it."""
    return Watch.objects.defer("known")


def watch_numbered(number: int, actor: Actor) -> Watch:
    """One that the actor keeps up. Raises NotFound."""
    found = _watches().filter(pk=number, by=actor.name).exclude(until=None).first()
    if found is None:
        message = f"You watch nothing under the number {number}: it ended, or was never begun."
        raise UnknownName(message, code="watch.unknown")
    return found


def watches_kept(now: datetime) -> list[Watch]:
    """Those of triggers, and those that somebody keeps up now."""
    return list(_watches().filter(Q(until=None) | Q(until__gt=now)).order_by("pk"))


def watches_failing() -> dict[str, str]:
    """job → why its source can't be watched."""
    failing = Watch.objects.exclude(message="").filter(until=None)
    return dict(failing.values_list("job", "message"))


def triggers_seen(actor: Actor, job: str = "") -> list[JsonObject]:
    """What starts jobs besides the clock, and what came of it."""
    watches = {watch.job: watch for watch in _watches().filter(until=None)}
    found = []
    for record in jobs_seen(actor):
        schedule = record.definition["schedule"]
        kind = schedule.get("kind") if schedule else None
        if kind in (CHANGES.kind, AFTER.kind) and job in ("", record.name):
            found.append(_told(record, watches.get(record.name)))
    return found


def _told(record: JobFacts, watch: Watch | None) -> JsonObject:
    trigger = read_trigger(record.definition["schedule"])
    assert trigger is not None
    told = {
        "job": record.name,
        "title": record.definition["title"],
        "kind": record.definition["schedule"]["kind"],
        "when": trigger.describe(),
        "is_on": record.is_on,
    }
    return told | watch_told(watch or Watch(job=record.name))


def watch_told(watch: WatchFacts) -> JsonObject:
    return {
        "how": watch.how,
        "looked_at": watch.looked_at,
        "noticed_at": watch.noticed_at,
        "noticed": watch.noticed,
        "growing": watch.growing,
        "waits": watch.waits,
        "message": watch.message,
        "code": watch.code,
        "run": watch.run,
        "run_at": watch.run_at,
        "runs": watch.runs,
    }
