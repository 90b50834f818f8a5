"""Whether a definition can be saved: its stores, what they keep, and what other jobs do there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import Any

from pinecart.core.dated_places import is_dated
from pinecart.core.decide import Intent
from pinecart.core.definition import Definition, Leg, use_of
from pinecart.core.definition_reading import read_definition
from pinecart.core.errors import Invalid
from pinecart.core.keeping import KEPT
from pinecart.core.named_values import named_in
from pinecart.core.option_spec import INVENTORY, JOB
from pinecart.core.places import Location, closest, did_you_mean
from pinecart.core.triggers import AfterTrigger
from pinecart.drivers import DRIVERS
from pinecart.service.config.rights import Actor, Right
from pinecart.service.jobs.selectors import definition_of, definitions_but, find_job
from pinecart.service.settings.selectors import as_it_runs
from pinecart.service.stores.selectors import Place, place_of, store_for, store_named, store_names

Problem = dict[str, str]
TAKING = frozenset((Intent.MIRROR, Intent.HAND_OVER))  # which can take away what others need


def checked_definition(
    actor: Actor,
    given: Mapping[str, Any],
    *,
    carry: bool = False,
) -> Definition:
    """The definition, if it is whole and its stores are the actor's to use.

    Raises NotAllowed, Invalid with every problem at once.
    """
    definition = read_definition(given, owner=actor.name, carry=carry)
    others = None if carry else definitions_but(definition.job)
    check(actor, definition, others, store_names(actor))
    return definition


def check(
    actor: Actor, definition: Definition, others: Sequence[Definition] | None, known: Sequence[str]
) -> None:
    """others: the jobs beside it; none, of a one-off transfer.   known: stores of the actor.

    Raises NotAllowed, Invalid with every problem at once.
    """
    problems = _stores_unknown(definition, known)
    if problems:
        raise Invalid(problems)
    for name in sorted(stores_of(definition)):
        store_for(actor, name, Right.OPERATE, "carrying files")
    problems = _into_itself(definition) + _cant_be_kept(definition) + _no_log_there(definition)
    if others is not None:
        problems += _in_each_others_way(definition, others)
    if problems:
        raise Invalid(problems)


def clash_of(definition: Definition) -> Problem | None:
    """What keeps a run from being started by places that were filled in for it: it was not to be
    known when its job was saved.
    """
    problems = _into_itself(definition)
    if problems or use_of(definition.job) != JOB:
        return next(iter(problems), None)
    record = find_job(definition.job)
    saved = definition_of(record) if record else definition
    if named_in(saved) or is_dated(saved):
        others = [as_it_runs(other) for other in definitions_but(definition.job)]
        problems = _in_each_others_way(definition, others)
    return next(iter(problems), None)


def stores_of(definition: Definition) -> set[str]:
    """Also the one that its log is appended to."""
    found = {place.store for leg in definition.legs for place in (leg.source, leg.target)}
    return found | ({definition.log_place.store} if definition.log_place else set())


def _unknown(field: str, store: str, known: Sequence[str]) -> Problem:
    message = f"There is no store {store!r}.{did_you_mean(store, known)}"
    return {"field": field, "code": "store.unknown", "message": message}


def _stores_unknown(definition: Definition, known: Sequence[str]) -> list[Problem]:
    """Of legs, and of the file that the log goes to."""
    problems = []
    for i, leg in enumerate(definition.legs):
        for side, place in (("from", leg.source), ("to", leg.target)):
            name = place.store
            if name not in known:
                problem = _unknown(f"legs[{i}].{side}", name, known)
                near = closest(name, known)
                if near:
                    problem["did_you_mean"] = ", ".join(near)
                problems.append(problem)
    log = definition.log_place
    if log is not None and log.store not in known:
        problems.append(_unknown("log_file", log.store, known))
    return problems


def _no_log_there(definition: Definition) -> list[Problem]:
    """A log grows in a folder, and is no file that the job itself carries."""
    log = definition.log_place
    if log is None:
        return []
    if not DRIVERS[store_named(log.store).kind].is_local:
        message = (
            f"{log.store} is no folder: a log can't be appended to there. Name a folder store."
        )
        return [{"field": "log_file", "code": "log.no-folder", "message": message}]
    for leg in definition.legs:
        for place in (leg.source, leg.target):
            if _touch(place_of, log.as_prefix(), place):
                message = (
                    f"{log} lies in {place}: the job would carry, or remove, its own log. Name a "
                    "file elsewhere."
                )
                return [{"field": "log_file", "code": "log.in-its-way", "message": message}]
    return []


def _into_itself(definition: Definition) -> list[Problem]:
    """Two stores may be one place, by links or by two names of one server."""
    problems = []
    if definition.intent is Intent.REMOVE or use_of(definition.job) == INVENTORY:
        return []
    for i, leg in enumerate(definition.legs):
        if leg.one or not _touch(place_of, leg.source, leg.target):
            continue
        message = (
            f"{leg.target} and {leg.source} lie in one another: both stores reach one place, and "
            "a job can't copy a place into itself."
        )
        field = f"legs[{i}].to"
        problems.append({"field": field, "code": "job.inside-itself", "message": message})
    return problems


def _cant_be_kept(definition: Definition) -> list[Problem]:
    """What the job wants kept, and the far side is known not to hold."""
    problems = []
    for i, leg in enumerate(definition.legs):
        kind = store_named(leg.target.store).kind
        lost = definition.keep.wanted - DRIVERS[kind].keeps
        for what in sorted(lost):
            words = KEPT[what]
            message = f"{leg.target.store} is a {kind} store: it keeps no {words}. Leave that out."
            problems.append(
                {"field": f"legs[{i}].to", "code": "job.not-kept-there", "message": message}
            )
    return problems


def _in_each_others_way(definition: Definition, others: Sequence[Definition]) -> list[Problem]:
    """An exact copy shares its destination with no other job; what a move clears is no other job's
    source.
    """
    place = lru_cache(maxsize=None)(place_of)
    problems = []
    for other in others:
        if not TAKING.intersection((definition.intent, other.intent)):
            continue
        for i, leg in enumerate(definition.legs):
            for theirs in other.legs:
                problems += _of_two_legs(definition, other, (i, leg, theirs), place)
    known = {other.job for other in others}
    problems += _after_problems(definition, others)
    for name in definition.waits_for:
        if name not in known:
            message = f"There is no job {name!r} to wait for.{did_you_mean(name, sorted(known))}"
            problems.append({"field": "waits_for", "code": "job.unknown", "message": message})
    return problems


def _after_problems(definition: Definition, others: Sequence[Definition]) -> list[Problem]:
    """Of a job that starts after another: that one exists, and none starts itself again."""
    if not isinstance(definition.trigger, AfterTrigger):
        return []
    after = {}
    for other in others:
        if isinstance(other.trigger, AfterTrigger):
            after[other.job] = other.trigger.job
    first = definition.trigger.job
    known = sorted(other.job for other in others)
    if first not in known and first != definition.job:
        message = f"There is no job {first!r} to start after.{did_you_mean(first, known)}"
        return [{"field": "schedule.after", "code": "job.unknown", "message": message}]
    seen = [definition.job]
    name: str | None = first
    while name is not None and name not in seen:
        seen.append(name)
        name = after.get(name)
    if name != definition.job:
        return []
    circle = " → ".join([*reversed(seen), name]) if len(seen) > 1 else name
    message = f"It would start itself again and again: {circle}."
    return [{"field": "schedule.after", "code": "job.after-itself", "message": message}]


def _of_two_legs(
    definition: Definition,
    other: Definition,
    legs: tuple[int, Leg, Leg],
    place: Any,
) -> list[Problem]:
    """What one job's leg would do to another job's, as far as places tell it: removing its files,
    or taking its sources away.
    """
    i, leg, theirs = legs
    intents = (definition.intent, other.intent)
    problems: list[Problem] = []
    if Intent.MIRROR in intents and _touch(place, leg.target, theirs.target):
        message = (
            f"{leg.target} and {theirs.target} of the job {other.job!r} lie in one "
            "another: an exact copy would remove the other's files. Give it a "
            "destination of its own."
        )
        field = f"legs[{i}].to"
        problems.append({"field": field, "code": "job.mirror-overlaps", "message": message})
    if Intent.HAND_OVER in intents and _touch(place, leg.source, theirs.source):
        problems += _shared_source(definition, other, f"legs[{i}].from", leg, theirs)
    return problems


def _touch(place: Any, one: Location, other: Location) -> bool:
    here: Place = place(one)
    return here.touches(place(other))


def _shared_source(
    definition: Definition, other: Definition, field: str, leg: Leg, theirs: Leg
) -> list[Problem]:
    """A move may share its source only with a job that it waits for, and of which it can be told
    what that job took.
    """
    if definition.intent is Intent.HAND_OVER:
        move, moved, second, taken = definition, leg, other, theirs
    else:
        move, moved, second, taken = other, theirs, definition, leg
    if second.job not in move.waits_for:
        message = (
            f"{leg.source} and {theirs.source} of the job {other.job!r} lie in one another: a "
            f"move would clear files before the other job has them. Let {move.job!r} wait for "
            f"{second.job!r} (waits_for)."
        )
        return [{"field": field, "code": "job.source-shared", "message": message}]
    why = ""
    if second.intent in (Intent.MIRROR, Intent.HAND_OVER):
        if second.intent is Intent.HAND_OVER:
            why = "removes files itself"
        else:
            why = "would remove there what was cleared here"
    elif taken.renaming or taken.one:
        why = "renames on the way, or takes one file only"
    elif taken.source.store != moved.source.store:
        why = f"reaches the same place by another store ({taken.source.store})"
    message = f"{move.job!r} can't wait for {second.job!r}: that job {why}."
    if why:
        return [{"field": field, "code": "job.cant-be-awaited", "message": message}]
    return []
