"""A definition looked over without running it: what its stores answer, whether anything is taken,
who else writes there.
"""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from itertools import combinations
from typing import NamedTuple

from pinecart.core.decide import Intent
from pinecart.core.definition import Definition, Leg
from pinecart.core.entries import Entry
from pinecart.core.errors import StoreError
from pinecart.core.named_values import named_in
from pinecart.core.places import Location
from pinecart.core.ports import Store, Versions
from pinecart.core.selection import compile_selection
from pinecart.core.triggers import AfterTrigger, ChangesTrigger
from pinecart.drivers import open_store
from pinecart.runner.listing_streams import absent_is_empty
from pinecart.runner.side import Side
from pinecart.service.config.rights import Actor, Right
from pinecart.service.jobs.selectors import definitions_but
from pinecart.service.jobs.services.due import next_due
from pinecart.service.settings.selectors import as_it_runs
from pinecart.service.stores.selectors import cautions_between, place_of, spec_of, store_for

SAMPLE = 5000  # files of a source that are looked at


class JobFinding(NamedTuple):
    """field: of the definition.   is_problem: it can't go well; else something to know."""

    field: str
    code: str
    message: str
    is_problem: bool = True


class Sample(NamedTuple):
    """The first files of a place. is_all: there are no more."""

    entries: list[Entry]
    is_all: bool


def look_over(actor: Actor, definition: Definition) -> list[JobFinding]:
    """Of a definition that was checked. Raises NotAllowed."""
    definition = as_it_runs(definition)
    found = _schedule_findings(definition) + _value_findings(definition)
    found += _others_there(actor, definition)
    for i, leg in enumerate(definition.legs):
        if leg.is_on:
            found += _of_leg(actor, i, leg)
            found += [
                JobFinding(f"legs[{i}].to", "job.caution", words, is_problem=False)
                for words in cautions_between(leg.source.store, leg.target.store)
            ]
            if definition.options["versions"] > 1:
                found += _version_findings(actor, i, leg)
    return found


def _version_findings(actor: Actor, i: int, leg: Leg) -> list[JobFinding]:
    """Sides that keep no versions, where older ones are to be carried."""
    found = []
    for side, place in (("from", leg.source), ("to", leg.target)):
        field = f"legs[{i}].{side}"
        record = store_for(actor, place.store, Right.LOOK, "looking at files")
        store = open_store(spec_of(record))
        keeps = asyncio.run(_keeps_versions(store, place))
        if not keeps:
            message = f"{place} keeps no versions: of each file only the present one is carried."
            found.append(JobFinding(field, "job.no-versions", message))
    return found


async def _keeps_versions(store: Store, place: Location) -> bool:
    try:
        return isinstance(store, Versions) and await store.keeps_versions(place.path)
    except StoreError:  # told by what else is looked at there
        return True
    finally:
        await store.close()


def _schedule_findings(definition: Definition) -> list[JobFinding]:
    """A finding where no time will ever come. What starts a job by an event has no times, and none
    are looked for.
    """
    trigger = definition.trigger
    if isinstance(trigger, AfterTrigger | ChangesTrigger | None) or next_due(definition, 1):
        return []
    message = f"It would run {trigger.describe()}: that never comes any more."
    return [JobFinding("schedule", "schedule.never", message)]


def _value_findings(definition: Definition) -> list[JobFinding]:
    """Named values that nobody has set."""
    found = []
    for name in sorted(named_in(definition)):
        message = (
            f"{{{name}}} stands in a place as it is: no value of this name is set, in the job's "
            "values or the service's settings."
        )
        found.append(JobFinding("values", "job.no-value", message))
    return found


def _hint(field: str, code: str, message: str) -> JobFinding:
    """No problem: it may be meant."""
    return JobFinding(field, code, message, is_problem=False)


def _others_there(actor: Actor, definition: Definition) -> list[JobFinding]:
    """Legs and jobs that write to one place, and moves that empty a source."""
    found = []
    for (i, one), (k, other) in combinations(enumerate(definition.legs), 2):
        if place_of(one.target).touches(place_of(other.target)):
            message = f"Legs {i + 1} and {k + 1} write to one place: {other.target}."
            found.append(_hint(f"legs[{k}].to", "job.same-target", message))
    for job in definitions_but(definition.job):
        if not actor.may(Right.LOOK, job.labels):
            continue
        for i, leg in enumerate(definition.legs):
            for theirs in job.legs:
                found += _beside(i, leg, job, theirs)
    return found


def _beside(i: int, leg: Leg, job: Definition, theirs: Leg) -> list[JobFinding]:
    """What another job's leg does to the places of this one."""
    found = []
    source = place_of(leg.source)
    target = place_of(leg.target)
    if target.touches(place_of(theirs.target)):
        message = f"The job {job.job!r} writes to {theirs.target} too."
        found.append(_hint(f"legs[{i}].to", "job.other-writes", message))
    empties = job.intent is Intent.HAND_OVER
    if empties and source.touches(place_of(theirs.source)):
        message = f"The job {job.job!r} moves files away from {theirs.source}."
        found.append(_hint(f"legs[{i}].from", "job.source-emptied", message))
    return found


def _of_leg(actor: Actor, i: int, leg: Leg) -> list[JobFinding]:
    found = []
    here = _sample(actor, leg.read_place, may_be_absent=False)
    there = _sample(actor, leg.target, may_be_absent=True)
    if isinstance(there, StoreError):
        message = f"{leg.target}: {there.message}"
        finding = JobFinding(f"legs[{i}].to", there.code, message)
        found.append(finding)
    if isinstance(here, StoreError):
        message = f"{leg.source}: {here.message}"
        finding = JobFinding(f"legs[{i}].from", here.code, message)
        return [*found, finding]
    return found + _selection_findings(i, leg, here)


def _sample(actor: Actor, place: Location, *, may_be_absent: bool) -> Sample | StoreError:
    """The first files there, or why they can't be had."""
    record = store_for(actor, place.store, Right.LOOK, "looking at files")
    try:
        store = open_store(spec_of(record))
        return asyncio.run(_listed(store, place, may_be_absent=may_be_absent))
    except StoreError as exc:
        return exc


async def _listed(store: Store, place: Location, *, may_be_absent: bool) -> Sample:
    """The first entries of a place, to try selections on; a place that isn't there yet is empty
    where the job makes it itself.
    """
    entries: list[Entry] = []
    pages = Side(store, place.path).listed()
    try:
        await store.check_place(place.path)
        async for page in absent_is_empty(pages) if may_be_absent else pages:
            entries += page
            if len(entries) >= SAMPLE:
                return Sample(entries[:SAMPLE], is_all=False)
    finally:
        await store.close()
    return Sample(entries, is_all=True)


def _selection_findings(i: int, leg: Leg, sample: Sample) -> list[JobFinding]:
    """The first reason why nothing would be taken."""
    files = [entry for entry in sample.entries if not entry.is_folder]
    if not files:
        message = f"No files are at {leg.source} now."
        return [_hint(f"legs[{i}].from", "job.nothing-there", message)]
    keys = [entry.key for entry in files]
    count = f"{len(keys):,}"
    of_those = f"all {count}" if sample.is_all else f"the first {count}"
    case = {"ignore_case": leg.options["ignore_case"]}
    for pattern in leg.options["leave_out"]:
        left = compile_selection([], [pattern], case)
        if not any(map(left.takes, keys)):
            message = f"The pattern {pattern!r} leaves out {of_those} files."
            return [JobFinding(f"legs[{i}].leave_out", "job.leaves-out-all", message)]
    if _takes_none(leg, keys):
        message = f"Of {of_those} files none is taken by these patterns."
        return [JobFinding(f"legs[{i}].take", "job.takes-nothing", message)]
    return []


def _takes_none(leg: Leg, keys: Sequence[bytes]) -> bool:
    selection = leg.selection
    return not any(selection.takes(key) for key in keys)
