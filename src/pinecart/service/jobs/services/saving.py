"""Jobs are defined, changed, switched, copied and dropped; each definition stays as a version."""

from __future__ import annotations

import json
from collections.abc import Mapping
from datetime import datetime
from typing import Any

from django.utils import timezone

from pinecart.core.definition import Definition
from pinecart.core.definition_turning import turned_round
from pinecart.core.places import shown_lines
from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import StateConflict
from pinecart.service.config.rights import Actor, Right
from pinecart.service.jobs.models import JobRecord, JobVersion
from pinecart.service.jobs.selectors import (
    definition_of,
    job_named,
    last_version,
    version_numbered,
)
from pinecart.service.jobs.services.checking import checked_definition
from pinecart.service.jobs.services.due import audit_after, due_after
from pinecart.service.runs.services.run_records import forget_job
from pinecart.service.stores.services.registering import set_uses
from pinecart.service.trail.services import change, changed


def define_job(actor: Actor, given: Mapping[str, Any]) -> JobRecord:
    """Save a new job. Raises Invalid, Conflict if the name is taken, NotAllowed."""
    return save_new(actor, checked_definition(actor, given))


def save_new(actor: Actor, definition: Definition) -> JobRecord:
    """Save a new job that was checked. Raises Conflict, NotAllowed."""
    due = _due_next(definition)
    with change(actor) as made:
        made.must(Right.DEFINE, definition.labels, f"defining {definition.job!r}")
        if JobRecord.objects.filter(name=definition.job).exists():
            message = (
                f"There is a job {definition.job!r} already. Choose another name, or change that "
                "one: pinecart job change."
            )
            raise StateConflict(message, code="job.taken")
        record = JobRecord(name=definition.job, version=last_version(definition.job) + 1)
        _save(actor, record, definition, due)
        made.note("job.defined", definition.job, digest=definition.digest)
        return record


def change_job(actor: Actor, name: str, given: Mapping[str, Any]) -> JobRecord:
    """Save a new version of a job; nothing is saved where nothing differs.

    Raises Invalid, NotFound, NotAllowed.
    """
    record = job_named(name, actor)
    actor.must(Right.DEFINE, record.definition["labels"], f"changing {name!r}")
    return save_changed(actor, checked_definition(actor, {**given, "job": name}))


def save_changed(actor: Actor, definition: Definition) -> JobRecord:
    """Save a version that was checked, where anything differs. Raises NotFound, NotAllowed."""
    name = definition.job
    record = job_named(name, actor)
    if definition.as_mapping() == record.definition:
        return record
    due = _due_next(definition)
    with change(actor) as made:
        record = job_named(name, actor)
        made.must(Right.DEFINE, record.definition["labels"], f"changing {name!r}")
        made.must(Right.DEFINE, definition.labels, f"giving {name!r} these labels")
        before = record.definition
        record.version += 1
        _save(actor, record, definition, due)
        differs = changed(before, record.definition)
        facts = {"version": record.version, "digest": definition.digest}
        made.note("job.changed", name, **facts, **_short(differs))
        return record


MOST_TOLD = 20_000  # characters of a change in the trail


def _short(differs: JsonObject) -> JsonObject:
    """A change as the trail keeps it: of very many legs only how many there were."""
    if len(json.dumps(differs)) <= MOST_TOLD:
        return differs
    return {
        side: {k: f"{len(v)} of them" if isinstance(v, list) else v for k, v in fields.items()}
        for side, fields in differs.items()
    }


def _due_next(definition: Definition) -> datetime | None:
    return due_after(definition, timezone.now())


def _save(actor: Actor, record: JobRecord, definition: Definition, due: datetime | None) -> None:
    """In the caller's transaction, in which nothing of a person's is worked out any more."""
    record.definition = definition.as_mapping()
    record.saved_at = timezone.now()
    record.next_due = due
    record.next_audit = audit_after(definition, timezone.now())
    record.after_seen = record.saved_at
    record.save()
    JobVersion.objects.create(
        job=record.name,
        number=record.version,
        definition=record.definition,
        saved_at=record.saved_at,
        saved_by=actor.name,
    )
    places = {place for leg in definition.legs for place in (leg.source, leg.target)}
    places |= {definition.log_place} if definition.log_place else set()
    set_uses(definition.job, places, definition.labels)


def go_back(actor: Actor, name: str, number: int) -> JobRecord:
    """Save a version that was before as the newest.

    Raises Invalid where it can't be any more, NotFound, NotAllowed.
    """
    version = version_numbered(job_named(name, actor), number)
    return change_job(actor, name, version.definition)


def switch_job(actor: Actor, name: str, *, on: bool, why: str) -> JobRecord:
    """Whether a job may be started by itself; by hand it always may.

    Raises NotFound, NotAllowed.
    """
    with change(actor) as made:
        record = job_named(name, actor)
        word = "on" if on else "off"
        made.must(Right.DEFINE, record.definition["labels"], f"switching {name!r} {word}")
        record.is_on = on
        record.switched_by = actor.name
        record.switched_at = timezone.now()
        record.switched_why = shown_lines(why)
        if on:
            record.next_due = due_after(definition_of(record), timezone.now())
            record.after_seen = timezone.now()
        record.save()
        made.note(f"job.{word}", name, why=record.switched_why)
        return record


def copy_job(actor: Actor, name: str, new: str, *, turned: bool) -> JobRecord:
    """The same under another name; turned: from where it put to, to where it took from. What was
    started by itself is switched off in the copy.

    Raises Invalid, Conflict if the name is taken, NotFound, NotAllowed.
    """
    record = job_named(name, actor)
    given = {**record.definition, "job": new, "owner": actor.name}
    if given["title"] == name:
        given["title"] = new
    if turned:
        given["legs"] = turned_round(record.definition["legs"])
    made = define_job(actor, given)
    if not made.definition["schedule"]:
        return made
    return switch_job(actor, new, on=False, why=f"A copy of {name}, not yet looked at.")


def drop_job(actor: Actor, name: str) -> None:
    """Forget a job and what it remembers.

    Its runs stay; nothing it carried is touched. Raises NotFound, NotAllowed.
    """
    with change(actor) as made:
        record = job_named(name, actor)
        made.must(Right.DEFINE, record.definition["labels"], f"dropping {name!r}")
        forget_job(name)
        set_uses(name, set())
        record.delete()
        made.note("job.dropped", name)
