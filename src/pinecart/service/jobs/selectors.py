from __future__ import annotations

from datetime import datetime

from pinecart.core.definition import Definition
from pinecart.core.definition_reading import read_definition
from pinecart.core.places import closest, did_you_mean
from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import UnknownName
from pinecart.service.config.rights import Actor, Right
from pinecart.service.jobs.facts import JobFacts
from pinecart.service.jobs.models import JobRecord


def job_named(name: str, actor: Actor) -> JobRecord:
    """Raises NotFound with the names that are like it; also where the actor may not look at it."""
    found = JobRecord.objects.filter(name=name).first()
    if found is None or not actor.may(Right.LOOK, found.definition["labels"]):
        known = [j.name for j in jobs_seen(actor)]
        message = (
            f"There is no job {name!r}.{did_you_mean(name, known)} See them with: pinecart job "
            "list."
        )
        raise UnknownName(message, code="job.unknown", did_you_mean=closest(name, known))
    return found


def find_job(name: str) -> JobRecord | None:
    """Whoever asks: for the service itself."""
    return JobRecord.objects.filter(name=name).first()


def job_names() -> list[str]:
    return list(JobRecord.objects.order_by("name").values_list("name", flat=True))


def jobs_seen(actor: Actor) -> list[JobRecord]:
    return [
        j
        for j in JobRecord.objects.order_by("name")
        if actor.may(Right.LOOK, j.definition["labels"])
    ]


def definition_of(record: JobFacts) -> Definition:
    return read_definition(record.definition)


def jobs_due(now: datetime) -> list[JobRecord]:
    return list(JobRecord.objects.filter(is_on=True, next_due__lte=now).order_by("next_due"))


def _when(record: JobRecord) -> str:
    trigger = definition_of(record).trigger
    return trigger.describe() if trigger else ""


def schedule_seen(actor: Actor) -> list[JsonObject]:
    """What will run when, the next first."""
    found = [j for j in jobs_seen(actor) if j.next_due]
    return [
        {
            "job": j.name,
            "when": _when(j),
            "schedule": j.definition["schedule"],
            "next_due": j.next_due,
            "is_on": j.is_on,
        }
        for j in sorted(found, key=lambda j: (j.next_due, j.name))
    ]
