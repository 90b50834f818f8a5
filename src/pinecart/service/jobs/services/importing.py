"""Many jobs at once, from files: all are checked, what would change is told, and all are saved, or
none.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import NamedTuple

from django.db import transaction

from pinecart.core.definition import Definition
from pinecart.core.definition_reading import read_definition
from pinecart.core.differences import Difference, differences
from pinecart.core.errors import Invalid
from pinecart.core.job_files import GivenJob, stores_named, with_other_stores
from pinecart.core.places import did_you_mean
from pinecart.service.config.rights import Actor, Right
from pinecart.service.jobs.models import JobRecord
from pinecart.service.jobs.selectors import definitions_but, jobs_named
from pinecart.service.jobs.services.checking import check
from pinecart.service.jobs.services.saving import save_changed, save_new
from pinecart.service.stores.selectors import store_names, stores_at_hand

NEW = "new"
CHANGED = "changed"
SAME = "same"
_LEG = re.compile(r"legs\[(\d+)\]\.(\w+)")


class Imported(NamedTuple):
    """change: "new", "changed" or "same"."""

    definition: Definition
    change: str
    differences: list[Difference]


def import_jobs(
    actor: Actor, given: Sequence[GivenJob], stores: Mapping[str, str], *, save: bool
) -> list[Imported]:
    """What each of these would change; and, to save, that change.

    stores: name in the files → name here.

    Raises Invalid with every problem of each at once, NotAllowed.
    """
    _check_map(given, stores)
    mapped = [with_other_stores(job, stores) for job in given]
    with stores_at_hand():
        saved = jobs_named([str(job.mapping.get("job", "")) for job in mapped])
        checked = _checked(actor, mapped, saved)
        found = [_looked_at(actor, definition, saved) for definition in checked]
        if save:
            with transaction.atomic():
                for one in found:
                    _save(actor, one)
    return found


def _check_map(given: Sequence[GivenJob], stores: Mapping[str, str]) -> None:
    """Each name that is replaced must be one that the files have: a typing error would leave a job
    with another team's store.
    """
    named = stores_named(given)
    problems = []
    for name in stores:
        if name not in named:
            near = did_you_mean(name, sorted(named))
            message = f"Nothing that was given names the store {name!r}.{near}"
            problems.append({"field": "stores", "code": "job.map-unused", "message": message})
    if problems:
        raise Invalid(problems)


def _checked(
    actor: Actor, given: Sequence[GivenJob], saved: Mapping[str, JobRecord]
) -> list[Definition]:
    """Each beside all the others, those that are given and those that are saved."""
    problems: list[dict[str, str]] = []
    read: list[tuple[GivenJob, Definition]] = []
    for job in given:
        try:
            read.append((job, read_definition(job.mapping, owner=actor.name, carry=False)))
        except Invalid as exc:
            problems += _placed(exc.problems, job)
    names = [definition.job for _, definition in read]
    for name in {name for name in names if names.count(name) > 1}:
        message = f"The job {name!r} is given twice."
        problems.append({"field": "job", "code": "job.given-twice", "message": message})
    beside = definitions_but(*names) + [definition for _, definition in read]
    known = store_names(actor)
    found = []
    for job, definition in read:
        others = [other for other in beside if other.job != definition.job]
        owned = _owned(job, definition, saved)
        try:
            check(actor, owned, others, known)
            found.append(owned)
        except Invalid as exc:
            problems += _placed(exc.problems, job)
    if problems:
        raise Invalid(problems)
    return found


def _owned(job: GivenJob, definition: Definition, saved: Mapping[str, JobRecord]) -> Definition:
    """Who owns a job stays who owns it, where the file says nothing."""
    record = saved.get(definition.job)
    if job.mapping.get("owner") or record is None:
        return definition
    return replace(definition, owner=record.definition["owner"])


def _placed(problems: list[dict[str, str]], job: GivenJob) -> list[dict[str, str]]:
    """With the line and column, or the job, that each is about."""
    name = str(job.mapping.get("job", ""))
    usual = job.where
    if name and not job.legs_at:
        usual = f"{job.where}, {name}"
    placed = []
    for problem in problems:
        where = usual
        at = _LEG.match(problem["field"])
        if at and int(at[1]) < len(job.legs_at):
            line = job.legs_at[int(at[1])]
            where = f"{line}, column {at[2]}"
        begin = where[:1].upper() + where[1:]
        message = f"{begin}: {problem['message']}"
        placed.append({**problem, "where": where, "job": name, "message": message})
    return placed


def _looked_at(actor: Actor, definition: Definition, saved: Mapping[str, JobRecord]) -> Imported:
    """Whether it is new, or what it changes. Raises RightMissing."""
    name = definition.job
    labels = definition.labels
    record = saved.get(name)
    if record is None:
        actor.must(Right.DEFINE, labels, f"defining {name!r}")
        return Imported(definition, NEW, [])
    what = f"changing {name!r}"
    actor.must(Right.DEFINE, record.definition["labels"], what)
    actor.must(Right.DEFINE, labels, what)
    return _beside(definition, record)


def _beside(definition: Definition, record: JobRecord) -> Imported:
    found = differences(record.definition, definition.as_mapping())
    return Imported(definition, CHANGED if found else SAME, found)


def _save(actor: Actor, one: Imported) -> None:
    """What is the same as it was is left as it is, and leaves no line in the trail."""
    if one.change == NEW:
        save_new(actor, one.definition)
    elif one.change == CHANGED:
        save_changed(actor, one.definition)
