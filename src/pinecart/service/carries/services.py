from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

from pinecart.core.definition import Definition, Leg
from pinecart.core.errors import Invalid, Missing, StoreError, Unsafe
from pinecart.core.option_spec import CARRY, INVENTORY, REMOVE
from pinecart.core.options import of_use
from pinecart.core.places import Location, key_text, parse_location, show
from pinecart.drivers import DRIVERS
from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import StateConflict, UnknownName
from pinecart.service.config.rights import Actor, Right
from pinecart.service.jobs.facts import JobFacts
from pinecart.service.jobs.services.checking import checked_definition
from pinecart.service.jobs.services.saving import define_job
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.selectors import run_numbered
from pinecart.service.runs.services.life_cycle import new_audit, start_run
from pinecart.service.stores.selectors import shows_buckets, store_for, store_named
from pinecart.service.stores.services.contents import look_at, make_bucket, stat_at


class Meant(NamedTuple):
    """What a carry's two places mean. example: one file's location here and there."""

    definition: Definition
    example: tuple[str, str] | None


def meant_by(actor: Actor, given: Mapping[str, Any]) -> Meant:
    """From is one file, or a folder whose contents arrive. To ending in `/` (or a bucket, or a
    whole store) means into it.

    Raises NotFound if nothing is there, Conflict if both a file and a folder have that name,
    Invalid for the rest.
    """
    source = parse_location(str(given.get("from") or ""), field="from")
    target = parse_location(str(given.get("to") or ""), field="to")
    here, there = (
        store_for(actor, p.store, Right.OPERATE, "carrying files") for p in (source, target)
    )
    is_one = _is_one_file(actor, source)
    leg: JsonObject
    example: tuple[str, str] | None
    if is_one:
        leg, example = _of_one_file(source, target)
    else:
        leg = {"from": source.as_prefix().text, "to": target.as_prefix().text}
        example = None
    rules, choices = _by_level(given, CARRY, apart=("from", "to", "preview", "make_bucket"))
    in_common = set(here.labels) & set(there.labels)
    whole = {"job": CARRY, "title": "Copy now", **choices}
    whole["labels"] = sorted(in_common)
    whole["legs"] = [leg | rules]
    definition = checked_definition(actor, whole, carry=True)
    if not is_one:
        example = _example(actor, definition.legs[0])
    return Meant(definition, example)


def removal_meant(actor: Actor, given: Mapping[str, Any]) -> Definition:
    """One file, or everything below a folder, less what the rules leave out.

    Raises NotFound, Conflict, Invalid.
    """
    place = parse_location(str(given.get("location") or ""), field="location")
    labels = store_for(actor, place.store, Right.DEFINE, "removing files").labels
    leg: JsonObject = {"from": place.as_prefix().text, "to": place.as_prefix().text}
    if _is_one_file(actor, place):
        head, slash, name = place.path.rpartition(b"/")
        text = Location(place.store, head + slash).text
        file = key_text(name)
        leg = {"from": text, "to": text, "one": [file, file]}
    rules, choices = _by_level(given, REMOVE, apart=("location", "preview"))
    whole = {
        "job": REMOVE,
        "title": "Remove",
        "intent": "remove",
        "labels": labels,
        "legs": [leg | rules],
    }
    return checked_definition(actor, whole | choices, carry=True)


def _by_level(
    given: Mapping[str, Any], use: str, *, apart: Sequence[str]
) -> tuple[JsonObject, JsonObject]:
    """Options of the leg, and of the whole. What is none of them goes to the leg, which refuses
    it.
    """
    names = {option.name for option in of_use(use, is_of_leg=False)}
    of_leg = {}
    of_whole = {}
    for name, value in given.items():
        if name in apart:
            continue
        if name in names:
            of_whole[name] = value
        else:
            of_leg[name] = value
    return of_leg, of_whole


def _is_one_file(actor: Actor, source: Location) -> bool:
    if not source.path or source.path.endswith(b"/"):
        return False
    file = folder = False
    try:  # first, since a refused listing says why, and a refused look at one object can't
        level = look_at(
            actor, source.store, source.path + b"/", after=b"", everything=False, limit=1
        )
        folder = bool(level.folders or level.entries)
    except StoreError as exc:
        if exc.code not in (
            "store.missing",
            "store.not-a-folder",
            "store.refused",
        ):  # may not list: it may be one file
            raise
    try:
        stat_at(actor, source.store, source.path)
        file = True
    except (
        Missing,
        Unsafe,
    ):  # nothing, or a folder; a store that can't be asked is an error of its own
        file = False
    if file and folder:
        message = (
            f"{source} is both a file and a folder. Write {source}/ for the folder's contents; "
            f"for the file, carry its folder with --take {show(source.path.rpartition(b'/')[2])}."
        )
        raise StateConflict(message, code="location.ambiguous")
    if not file and not folder and not _is_bucket(source):
        raise UnknownName(
            f"Nothing lies at {source}. See what does: pinecart browse pine://{source.store}/",
            code="location.nothing",
        )
    return file


def _is_bucket(place: Location) -> bool:
    record = store_named(place.store)
    return shows_buckets(record) and b"/" not in place.path


def _of_one_file(source: Location, target: Location) -> tuple[JsonObject, tuple[str, str]]:
    """The leg that carries it, and its places before and after."""
    here, name = _parent_and_name(source.path)
    if not target.path or target.path.endswith(b"/") or _is_bucket(target):
        there = target.as_prefix().path
        new = name
    else:
        there, new = _parent_and_name(target.path)
    leg = {
        "from": Location(source.store, here).text,
        "to": Location(target.store, there).text,
        "one": [key_text(name), key_text(new)],
    }
    arrives = Location(target.store, there + new)
    return leg, (str(source), str(arrives))


def _parent_and_name(path: bytes) -> tuple[bytes, bytes]:
    head, slash, name = path.rpartition(b"/")
    return head + slash, name


def _example(actor: Actor, leg: Leg) -> tuple[str, str] | None:
    """The first file that would be taken, with its location here and its name there."""
    source = leg.source
    target = leg.target
    level = look_at(actor, source.store, source.path, after=b"", everything=True, limit=1000)
    now_ns = time.time_ns()
    for number, entry in enumerate(level.entries, 1):
        why_not = leg.selection.why_not(entry.key, entry, now_ns)
        if why_not is not None:
            continue
        new = entry.key
        if leg.renaming:
            new = leg.renaming.new_key(entry, number)
        here = Location(source.store, source.path + entry.key)
        there = Location(target.store, target.path + new)
        return str(here), str(there)
    return None


def start_carry(actor: Actor, meant: Meant, *, preview: bool, new_bucket: bool = False) -> RunFacts:
    """Queue it.

    new_bucket: its destination's bucket is made, if there is none; without, a bucket is never made.
    """
    target = meant.definition.legs[0].target
    if new_bucket and not preview and DRIVERS[store_named(target.store).kind].has_buckets:
        make_bucket(actor, target.store, target.path.split(b"/")[0].decode("utf-8", "replace"))
    kind = "preview" if preview else "transfer"
    return start_run(
        actor, meant.definition, kind=kind, cause=f"carried by {actor.name}", alone=False
    )


def start_audit(actor: Actor, given: Mapping[str, Any]) -> RunFacts:
    """Of two places. given: from, to, take, leave_out, depth, sample.

    Raises NotFound, Conflict, Invalid.
    """
    places = {name: value for name, value in given.items() if name not in ("depth", "sample")}
    meant = meant_by(actor, places)
    return start_run(
        actor,
        meant.definition,
        kind="audit",
        cause=f"started by {actor.name}",
        alone=False,
        audit=new_audit(given),
    )


def start_inventory(actor: Actor, location: str) -> RunFacts:
    """Count what lies in a place. Raises NotFound, Invalid."""
    place = parse_location(location, field="location").as_prefix()
    store = store_for(actor, place.store, Right.OPERATE, "taking an inventory")
    leg = {"from": place.text, "to": place.text}
    whole = {"job": INVENTORY, "title": "Inventory", "labels": store.labels, "legs": [leg]}
    definition = checked_definition(actor, whole, carry=True)
    cause = f"asked for by {actor.name}"
    return start_run(actor, definition, kind="inventory", cause=cause, alone=False)


def start_removal(actor: Actor, definition: Definition, *, preview: bool) -> RunFacts:
    """Queue it; it waits with its list until somebody says yes to just that list."""
    kind = "preview" if preview else "transfer"
    return start_run(actor, definition, kind=kind, cause=f"asked for by {actor.name}", alone=False)


def keep_as_job(actor: Actor, number: int, name: str) -> JobFacts:
    """Make a job of what a carry did. Raises NotFound, Invalid, Conflict."""
    run = run_numbered(number, actor, "transfer")
    if run.job != CARRY:
        raise Invalid(
            [
                {
                    "field": "run",
                    "code": "run.not-a-carry",
                    "message": f"Run {number} belongs to the job {run.job!r} already.",
                }
            ]
        )
    return define_job(actor, {**run.definition, "job": name, "title": name, "owner": actor.name})
