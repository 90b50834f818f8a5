from __future__ import annotations

import json
from collections.abc import Mapping
from datetime import datetime
from typing import Any

from django.utils import timezone

from pinecart.core.decide import Intent
from pinecart.core.definition import Definition, Leg
from pinecart.core.definition_reading import read_definition
from pinecart.core.errors import Invalid
from pinecart.core.places import closest, did_you_mean
from pinecart.core.triggers import TriggerState
from pinecart.drivers import DRIVERS
from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import StateConflict
from pinecart.service.config.rights import Actor, Right
from pinecart.service.jobs.models import JobRecord
from pinecart.service.jobs.selectors import definition_of, job_named, job_names
from pinecart.service.runs.services.run_records import forget_job
from pinecart.service.stores.selectors import place_of, store_for, store_named, store_names
from pinecart.service.stores.services import set_uses
from pinecart.service.trail.services import change, changed


def checked_definition(
    actor: Actor, given: Mapping[str, Any], *, carry: bool = False
) -> Definition:
    """The definition, if it is whole and its stores are the actor's to use.

    Raises NotAllowed, Invalid with every problem at once.
    """
    definition, problems = None, []
    try:
        definition = read_definition(given, owner=actor.name, carry=carry)
        legs = definition.legs
        known = store_names(actor)
        for i, leg in enumerate(legs):
            for side, place in (("from", leg.source), ("to", leg.target)):
                if place.store not in known:
                    message = (
                        f"There is no store {place.store!r}.{did_you_mean(place.store, known)}"
                    )
                    near = {
                        "field": f"legs[{i}].{side}",
                        "code": "store.unknown",
                        "message": message,
                    }
                    problems.append(
                        near
                        | (
                            {"did_you_mean": ", ".join(n)}
                            if (n := closest(place.store, known))
                            else {}
                        )
                    )
    except Invalid as exc:
        problems += exc.problems
    if definition is not None and not problems:
        for name in sorted(
            {place.store for leg in definition.legs for place in (leg.source, leg.target)}
        ):
            store_for(actor, name, Right.OPERATE, "carrying files")
        problems += _cant_be_kept(definition)
    if definition is not None and not problems and not carry:
        problems += _in_each_others_way(definition)
    if problems or definition is None:
        raise Invalid(problems)
    return definition


def _cant_be_kept(definition: Definition) -> list[dict[str, str]]:
    """What the job wants kept, and the far side is known not to hold."""
    problems = []
    wanted = {"tags"} if definition.keep.tags else set()
    wanted |= {"storage-class"} if definition.keep.storage_class else set()
    for i, leg in enumerate(definition.legs):
        kind = store_named(leg.target.store).kind
        lost = wanted - DRIVERS[kind].keeps
        for what in sorted(lost):
            words = what.replace("-", " ")
            message = f"{leg.target.store} is a {kind} store: it keeps no {words}. Leave that out."
            problems.append(
                {"field": f"legs[{i}].to", "code": "job.not-kept-there", "message": message}
            )
    return problems


def _in_each_others_way(definition: Definition) -> list[dict[str, str]]:
    """An exact copy shares its destination with no other job; what a move clears is no other job's
    source.
    """
    problems = []
    for record in JobRecord.objects.exclude(name=definition.job):
        other = definition_of(record)
        for i, leg in enumerate(definition.legs):
            for theirs in other.legs:
                if Intent.MIRROR in (definition.intent, other.intent) and place_of(
                    leg.target
                ).touches(place_of(theirs.target)):
                    message = (
                        f"{leg.target} and {theirs.target} of the job {other.job!r} lie in one "
                        "another: an exact copy would remove the other's files. Give it a "
                        "destination of its own."
                    )
                    problems.append(
                        {
                            "field": f"legs[{i}].to",
                            "code": "job.mirror-overlaps",
                            "message": message,
                        }
                    )
                if Intent.HAND_OVER in (definition.intent, other.intent) and place_of(
                    leg.source
                ).touches(place_of(theirs.source)):
                    problems += _shared_source(definition, other, f"legs[{i}].from", leg, theirs)
    known = set(
        JobRecord.objects.filter(name__in=definition.waits_for).values_list("name", flat=True)
    )
    for name in [n for n in definition.waits_for if n not in known]:
        message = f"There is no job {name!r} to wait for.{did_you_mean(name, job_names())}"
        problems.append({"field": "waits_for", "code": "job.unknown", "message": message})
    return problems


def _shared_source(
    definition: Definition, other: Definition, field: str, leg: Leg, theirs: Leg
) -> list[dict[str, str]]:
    """A move may share its source only with a job that it waits for, and of which it can be told
    what that job took.
    """
    (move, moved), (second, taken) = ((definition, leg), (other, theirs))
    if move.intent is not Intent.HAND_OVER:
        (move, moved), (second, taken) = (second, taken), (move, moved)
    if second.job not in move.waits_for:
        message = (
            f"{leg.source} and {theirs.source} of the job {other.job!r} lie in one another: a "
            f"move would clear files before the other job has them. Let {move.job!r} wait for "
            f"{second.job!r} (waits_for)."
        )
        return [{"field": field, "code": "job.source-shared", "message": message}]
    why = ""
    if second.intent in (Intent.MIRROR, Intent.HAND_OVER):
        why = (
            "removes files itself"
            if second.intent is Intent.HAND_OVER
            else "would remove there what was cleared here"
        )
    elif taken.renaming or taken.one:
        why = "renames on the way, or takes one file only"
    elif taken.source.store != moved.source.store:
        why = f"reaches the same place by another store ({taken.source.store})"
    message = f"{move.job!r} can't wait for {second.job!r}: that job {why}."
    return [{"field": field, "code": "job.cant-be-awaited", "message": message}] if why else []


def define_job(actor: Actor, given: Mapping[str, Any]) -> JobRecord:
    """Save a new job. Raises Invalid, Conflict if the name is taken, NotAllowed."""
    definition = checked_definition(actor, given)
    due = _due_next(definition)
    with change(actor) as made:
        made.must(Right.DEFINE, definition.labels, f"defining {definition.job!r}")
        if JobRecord.objects.filter(name=definition.job).exists():
            message = (
                f"There is a job {definition.job!r} already. Choose another name, or change that "
                "one: pinecart job change."
            )
            raise StateConflict(message, code="job.taken")
        record = JobRecord(name=definition.job)
        _save(record, definition, due)
        made.note("job.defined", definition.job, digest=definition.digest)
        return record


def change_job(actor: Actor, name: str, given: Mapping[str, Any]) -> JobRecord:
    """Save a new version of a job. Raises Invalid, NotFound, NotAllowed."""
    record = job_named(name, actor)
    actor.must(Right.DEFINE, record.definition["labels"], f"changing {name!r}")
    definition = checked_definition(actor, {**given, "job": name})
    due = _due_next(definition)
    with change(actor) as made:
        made.must(Right.DEFINE, definition.labels, f"giving {name!r} these labels")
        record = job_named(name, actor)
        before = record.definition
        record.version += 1
        _save(record, definition, due)
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


def _save(record: JobRecord, definition: Definition, due: datetime | None) -> None:
    """In the caller's transaction, in which nothing of a person's is worked out any more."""
    record.definition, record.saved_at, record.next_due = (
        definition.as_mapping(),
        timezone.now(),
        due,
    )
    record.save()
    set_uses(
        definition.job,
        {p for leg in definition.legs for p in (leg.source, leg.target)},
        definition.labels,
    )


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


def due_after(
    definition: Definition, now: datetime, last_due: datetime | None = None
) -> datetime | None:
    """When a job comes due by itself after `now`; None: only when somebody starts it."""
    if definition.trigger is None:
        return None
    return definition.trigger.due(now, TriggerState(last_due))


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


def set_next_due(record: JobRecord, due: datetime | None) -> None:
    JobRecord.objects.filter(pk=record.pk).update(next_due=due)
