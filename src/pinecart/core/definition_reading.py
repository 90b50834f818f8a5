"""Reads a job's definition from a mapping (the API's, a job file's), and checks it as a whole."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from pinecart.core.decide import Intent
from pinecart.core.definition import Definition, Leg, use_of
from pinecart.core.errors import Invalid
from pinecart.core.option_spec import CARRY, INVENTORY, JOB, REMOVE, Draft, Problems
from pinecart.core.options import INTENT, OPTIONS, of_use
from pinecart.core.places import Location, is_name, parse_location, shown_lines, touch
from pinecart.core.selection import RULES, compile_selection
from pinecart.core.triggers import Trigger, read_trigger
from pinecart.json_object import JsonObject

TEXTS = ("job", "title", "why", "owner")
NO_OPTIONS = (*TEXTS, "labels", "legs", "schedule")
PLACES = ("from", "to", "one")


def job_keys() -> tuple[str, ...]:
    """What a definition may have."""
    return (*NO_OPTIONS, *(option.name for option in of_use(JOB, is_of_leg=False)))


def leg_keys() -> tuple[str, ...]:
    """What a leg may have."""
    return (*PLACES, *(option.name for option in of_use(JOB, is_of_leg=True)))


def read_definition(given: Mapping[str, Any], *, owner: str = "", carry: bool = True) -> Definition:
    """Check a mapping and build the definition. Raises Invalid with every problem at once.

    A hyphen in a key is the same as an underscore (job files write `leave-out`). `from` and `to`
    end at a `/`.
    """
    reading = Problems()
    mapping = _with_underscores(given)
    _only_known(mapping, job_keys(), "A job", "", reading)
    texts = {key: _text(mapping, key, reading) for key in TEXTS}
    name = texts["job"]
    _check_name(name, reading, carry=carry)
    use = use_of(name) if carry else JOB
    intent = _read_intent(mapping, use, reading)
    legs = _read_legs(mapping.get("legs"), use, reading)
    _check_legs(legs, use, intent, reading)
    draft = Draft(name, intent, [place for leg in legs for place in (leg.source, leg.target)])
    options = {"intent": intent.value} | _read_options(mapping, use, draft, reading)
    trigger: Trigger | None = reading.nested(read_trigger, mapping.get("schedule"))
    labels = _labels(mapping.get("labels"), reading)
    if reading.problems:
        raise Invalid(reading.problems)
    return Definition(
        job=name,
        title=shown_lines(texts["title"]) or name,
        why=shown_lines(texts["why"]),
        labels=labels,
        owner=texts["owner"] or owner,
        options=options,
        legs=legs,
        trigger=trigger,
    )


def _with_underscores(given: Mapping[str, Any]) -> JsonObject:
    return {str(key).replace("-", "_"): value for key, value in given.items()}


def _only_known(
    given: Mapping[str, Any],
    known: Sequence[str],
    what: str,
    where: str,
    reading: Problems,
) -> None:
    for key in given.keys() - set(known):
        message = f"{what} has no {key!r}. Its keys are: {', '.join(known)}."
        reading.wrong(where + key, "job.unknown-key", message)


def _text(given: Mapping[str, Any], key: str, reading: Problems) -> str:
    """Without spaces around it; empty where none is given, or where what is given is no text, which
    is told.
    """
    value = given.get(key)
    if value is None:
        return ""
    if isinstance(value, str):
        return value.strip()
    reading.wrong(key, "job.malformed", f"{key} must be text, not {value!r}.")
    return ""


def _labels(value: Any, reading: Problems) -> tuple[str, ...]:
    """In their order as given. None given is no fault; what is no list of texts is told, and none
    are taken.
    """
    if not value:
        return ()
    if isinstance(value, list) and all(isinstance(label, str) for label in value):
        return tuple(value)
    reading.wrong("labels", "job.malformed", "labels must be a list of texts.")
    return ()


def _check_name(name: str, reading: Problems, *, carry: bool) -> None:
    """A job's name stands in addresses and commands. What is carried once without a job has names
    that no job may take.
    """
    if not is_name(name):
        rule = "use small letters, digits and hyphens, 63 at most"
        message = f"{name!r} can't be a job's name: {rule}."
        reading.wrong("job", "job.name", message)
    if name in (CARRY, REMOVE, INVENTORY) and not carry:
        message = f"{name!r} stands for transfers without a job. Choose another name."
        reading.wrong("job", "job.name", message)


def _read_intent(mapping: Mapping[str, Any], use: str, reading: Problems) -> Intent:
    """A removal has one of its own, which nothing else may have."""
    if use != REMOVE:
        chosen = INTENT.value_of(mapping, Intent.RENEW, "", reading)
        return Intent(chosen)
    given = mapping.get("intent")
    if given not in (None, "", Intent.REMOVE.value):
        message = f"A removal has the intent 'remove', not {given!r}."
        reading.wrong("intent", "job.unknown-choice", message)
    return Intent.REMOVE


def _read_options(
    mapping: Mapping[str, Any], use: str, draft: Draft, reading: Problems
) -> JsonObject:
    """Those of the whole job, by name. What a carry or a removal has no use for is told, unless it
    is as by default.
    """
    offered = of_use(use, is_of_leg=False)
    options = {}
    for option in OPTIONS.values():
        if option.is_of_leg or option is INTENT:
            continue
        value = option.value_of(mapping, draft.intent, "", reading)
        if option in offered:
            option.check(value, draft, reading)
            options[option.name] = value
        elif value != option.default(draft.intent):
            message = f"{option.name} is of jobs; there is no such thing here."
            reading.wrong(option.name, "job.unknown-key", message)
    return options


def _read_legs(given: Any, use: str, reading: Problems) -> tuple[Leg, ...]:
    """All that can be read: a leg with a fault is told by its number and left out, so that one
    answer names the faults of all.
    """
    if not isinstance(given, list) or not given:
        message = "A job needs at least one leg with a from and a to."
        reading.wrong("legs", "job.no-legs", message)
        return ()
    legs = []
    for i, mapping in enumerate(given):
        leg = _read_leg(mapping, f"legs[{i}].", reading)
        if leg:
            legs.append(leg)
    return tuple(legs)


def _read_leg(given: Any, where: str, reading: Problems) -> Leg | None:
    if not isinstance(given, Mapping):
        place = where.rstrip(".")
        reading.wrong(place, "job.malformed", f"{place} must have from and to.")
        return None
    mapping = _with_underscores(given)
    _only_known(mapping, leg_keys(), "A leg", where, reading)
    options = {}
    for option in of_use(JOB, is_of_leg=True):
        options[option.name] = option.value_of(mapping, Intent.RENEW, where, reading)
    rules = {name: options[name] for name in RULES if options[name] is not None}
    selected = options["take"], options["leave_out"], rules
    reading.nested(compile_selection, *selected, where=where)
    source = _read_place(mapping, "from", where, reading)
    target = _read_place(mapping, "to", where, reading)
    one = _read_one(mapping.get("one"), where, reading)
    if source is None or target is None:
        return None
    return Leg(source, target, options, one)


def _read_place(given: JsonObject, field: str, where: str, reading: Problems) -> Location | None:
    text = str(given.get(field) or "")
    found: Location | None = reading.nested(_place, text, field, where=where)
    return found


def _read_one(given: Any, where: str, reading: Problems) -> tuple[str, str] | None:
    if not given:
        return None
    if isinstance(given, list) and len(given) == 2:
        name, new = given
        if isinstance(name, str) and isinstance(new, str):
            return name, new
    message = f"{where}one names a file and what it is called there."
    reading.wrong(where + "one", "job.malformed", message)
    return None


def _place(text: str, field: str) -> Location:
    return parse_location(text, field=field).as_prefix()


def _check_legs(legs: Sequence[Leg], use: str, intent: Intent, reading: Problems) -> None:
    if legs and not any(leg.is_on for leg in legs):
        message = "Every leg is switched off. Leave one on, or switch the job off."
        reading.wrong("legs", "job.all-off", message)
    for i, leg in enumerate(legs):
        if intent is Intent.MIRROR and (leg.renaming or leg.one):
            message = (
                "An exact copy keeps every name: it can't rename, and is of a folder, not of one "
                "file."
            )
            reading.wrong(f"legs[{i}].rename", "job.mirror-renames", message)
        has_two = intent is not Intent.REMOVE and use != INVENTORY
        if not leg.one and has_two and touch(leg.source, leg.target):
            message = (
                f"{leg.target} and {leg.source} lie in one another: a job can't copy a place "
                "into itself."
            )
            reading.wrong(f"legs[{i}].to", "job.inside-itself", message)
        if leg.options["snapshot"] and intent is Intent.HAND_OVER:
            message = "A move clears its source: it can't read from a snapshot of it."
            reading.wrong(f"legs[{i}].snapshot", "job.moves-a-snapshot", message)
        for other in legs[:i]:
            _check_targets(leg, other, f"legs[{i}].to", intent, reading)


def _check_targets(leg: Leg, other: Leg, field: str, intent: Intent, reading: Problems) -> None:
    """Two legs never write to one place, and where files are removed, neither writes inside what
    the other keeps exact.
    """
    if other.target == leg.target:
        reading.wrong(field, "job.same-target", f"Two legs write to {leg.target}.")
    elif intent is Intent.MIRROR and touch(leg.target, other.target):
        message = (
            f"{leg.target} and {other.target} lie in one another: one exact copy would remove "
            "the other's files."
        )
        reading.wrong(field, "job.mirror-overlaps", message)
