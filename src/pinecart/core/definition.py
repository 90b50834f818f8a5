"""A job's definition: read from a mapping (API, job file), checked as a whole, and told in
sentences.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from pinecart.core.decide import Comparison, Intent, OnDifference, Rules
from pinecart.core.errors import Invalid
from pinecart.core.guards import Limits
from pinecart.core.keeping import CHOICES, Keep
from pinecart.core.places import (
    ASIDE,
    Location,
    is_name,
    lies_in,
    parse_location,
    shown_lines,
    touch,
)
from pinecart.core.renaming import Renaming, read_renaming
from pinecart.core.schedule import Schedule, parse_schedule
from pinecart.core.selection import RULES, Selection, compile_selection, read_size

INTENTS = (Intent.TOP_UP, Intent.RENEW, Intent.MIRROR, Intent.HAND_OVER)
NO_CHANGE, NOTHING_KEPT = Limits(), Keep()
KEPT_DAYS = 14  # what is removed is set aside for so long, unless the job says otherwise
CARRY, REMOVE = (
    "carry",
    "remove",
)  # stand for the job in a one-off transfer or removal; no job may be called so
KEYS = (
    "job",
    "title",
    "why",
    "labels",
    "owner",
    "intent",
    "compare",
    "on_difference",
    "legs",
    "schedule",
    "set_aside",
    "guards",
    "keep",
    "storage_class",
    "rate",
    "waits_for",
    "route",
    "aside_in",
)
LEG_KEYS = ("from", "to", "take", "leave_out", *RULES, "folders", "rename", "one")
FOLDERS = ("with-files", "empty-too", "only")
ROUTES = ("shortest", "through-us")
INTENT_WORDS = {
    Intent.TOP_UP: "Adds what is missing there. Nothing that exists there is touched.",
    Intent.RENEW: "Adds what is new and replaces what changed. Nothing is removed.",
    Intent.MIRROR: (
        "Makes an exact copy: adds, replaces, and removes there what the source no longer has."
    ),
    Intent.HAND_OVER: (
        "Moves: adds and replaces, and removes each file at the source once its copy is proven."
    ),
    Intent.REMOVE: "Removes what lies there.",
}
CHOICE_WORDS = {
    OnDifference.KEEP: "A file that exists there and differs is kept as it is.",
    OnDifference.REPLACE_CHANGED: (
        "A file that somebody else changed there is left untouched and listed as a problem."
    ),
    OnDifference.REPLACE_ALL: (
        "A file that differs there is replaced, even where somebody else changed it."
    ),
    OnDifference.KEEP_BOTH: (
        "A file that exists there and differs gets a dated name, and the new one is put beside it."
    ),
    OnDifference.REFUSE: (
        "A file that exists there and differs is listed as a problem and not replaced."
    ),
}


# A rule that got another name is the same rule: what was carried out by it before still counts.
_DIGESTED_AS = {"changed_within": "newer_than", "unchanged_for": "older_than"}


def days_kept(mapping: Mapping[str, Any]) -> int:
    """Days for which a definition sets aside what it removes or replaces; for most intents that is
    by default not at all.
    """
    removes = mapping["intent"] not in (Intent.TOP_UP, Intent.RENEW)
    return int(mapping.get("set_aside", KEPT_DAYS if removes else 0))


@dataclass(frozen=True)
class Leg:
    """One pair of places.

    rules: further rules of selection, as written.   one: only this file, and its name there.
    """

    source: Location
    target: Location
    take: tuple[str, ...] = ()
    leave_out: tuple[str, ...] = ()
    rules: tuple[tuple[str, Any], ...] = ()
    renaming: Renaming | None = None
    one: tuple[str, str] | None = None
    folders: str = "with-files"

    @property
    def selection(self) -> Selection:
        return compile_selection(self.take, self.leave_out, dict(self.rules))

    @property
    def digest(self) -> str:
        """Of its selection: another one may leave out what was carried before."""
        mapping = {
            _DIGESTED_AS.get(k, k): v
            for k, v in self.as_mapping().items()
            if k not in ("from", "to")
        }
        return hashlib.sha256(json.dumps(mapping, sort_keys=True).encode()).hexdigest()[:16]

    def as_mapping(self) -> dict[str, Any]:
        told: dict[str, Any] = {
            "from": self.source.text,
            "to": self.target.text,
            "take": list(self.take),
        }
        told |= {"leave_out": list(self.leave_out), **dict(self.rules)}
        told |= {"rename": self.renaming._asdict()} if self.renaming else {}
        told |= {"folders": self.folders} if self.folders != "with-files" else {}
        return told | ({"one": list(self.one)} if self.one else {})


@dataclass(frozen=True)
class Definition:
    """What to transfer, by which rules. Built by `read_definition`, which has checked it."""

    job: str
    title: str
    why: str
    labels: tuple[str, ...]
    owner: str
    intent: Intent
    compare: Comparison
    on_difference: OnDifference
    legs: tuple[Leg, ...]
    schedule: Schedule | None = None
    set_aside: int = 0
    limits: Limits = NO_CHANGE
    keep: Keep = NOTHING_KEPT
    rate: int | None = None
    waits_for: tuple[str, ...] = ()
    route: str = "shortest"
    aside_in: str = ""

    @property
    def aside_prefix(self) -> bytes:
        """Relative to the store's, or the bucket's, root."""
        return self.aside_in.encode("utf-8", "surrogateescape")

    @property
    def rules(self) -> Rules:
        return Rules(self.intent, self.on_difference, self.compare)

    @property
    def removes_unreviewed(self) -> bool:
        """Whether it removes files, and is no job, which somebody who may define
        them answers for.
        """
        return self.job in (CARRY, REMOVE) and self.intent in (
            Intent.MIRROR,
            Intent.HAND_OVER,
            Intent.REMOVE,
        )

    def as_mapping(self) -> dict[str, Any]:
        """The definition as JSON; `read_definition` gives it back."""
        return {
            "job": self.job,
            "title": self.title,
            "why": self.why,
            "labels": list(self.labels),
            "owner": self.owner,
            "intent": self.intent.value,
            "compare": self.compare.value,
            "on_difference": self.on_difference.value,
            "legs": [leg.as_mapping() for leg in self.legs],
            **(
                {"set_aside": self.set_aside}
                if self.set_aside != days_kept({"intent": self.intent})
                else {}
            ),
            "keep": [k for k in CHOICES if getattr(self.keep, k)],
            "storage_class": self.keep.storage_class,
            **({"rate": self.rate} if self.rate else {}),
            **({"waits_for": list(self.waits_for)} if self.waits_for else {}),
            **({"route": self.route} if self.route != "shortest" else {}),
            **({"aside_in": self.aside_in} if self.aside_in else {}),
            "guards": {
                k: v for k, v in self.limits._asdict().items() if v != Limits._field_defaults[k]
            },
            "schedule": self.schedule and {"cron": self.schedule.cron, "zone": self.schedule.zone},
        }

    @property
    def digest(self) -> str:
        return hashlib.sha256(json.dumps(self.as_mapping(), sort_keys=True).encode()).hexdigest()[
            :16
        ]


@dataclass
class _Reading:
    problems: list[dict[str, str]] = field(default_factory=list)

    def wrong(self, field: str, code: str, message: str) -> None:
        self.problems.append({"field": field, "code": code, "message": message})

    def text(self, given: Mapping[str, Any], key: str, default: str = "") -> str:
        value = given.get(key, default)
        if value is None:
            return default
        if not isinstance(value, str):
            self.wrong(key, "job.malformed", f"{key} must be text, not {value!r}.")
            return default
        return value.strip()

    def texts(self, given: Mapping[str, Any], key: str, where: str = "") -> tuple[str, ...]:
        value = given.get(key) or []
        if not isinstance(value, list) or not all(isinstance(v, str) for v in value):
            self.wrong(where + key, "job.malformed", f"{where}{key} must be a list of texts.")
            return ()
        return tuple(value)

    def one_of(
        self, given: Mapping[str, Any], key: str, default: str, choices: tuple[Any, ...]
    ) -> str:
        value = self.text(given, key, default) or default
        if value not in [str(c) for c in choices]:
            known = ", ".join(str(c) for c in choices)
            self.wrong(
                key, "job.unknown-choice", f"{key} can't be {value!r}. Choose one of: {known}."
            )
            return default
        return value

    def days(self, given: Mapping[str, Any], key: str, default: int) -> int:
        value = given.get(key, default)
        if value is None or (
            isinstance(value, int) and not isinstance(value, bool) and 0 <= value <= 3650
        ):
            return default if value is None else value
        self.wrong(
            key,
            "job.malformed",
            f"{key} must be a number of days from 0 (not kept) to 3650, not {value!r}.",
        )
        return default

    def nested(self, call: Any, *args: Any, where: str = "") -> Any:
        try:
            return call(*args)
        except Invalid as exc:
            self.problems += [{**p, "field": where + p["field"]} for p in exc.problems]
            return None


def read_definition(given: Mapping[str, Any], *, owner: str = "", carry: bool = True) -> Definition:
    """Check a mapping and build the definition. Raises Invalid with every problem at once.

    A hyphen in a key is the same as an underscore (job files write `leave-out`). `from` and `to`
    end at a `/`.
    """
    reading = _Reading()
    mapping = {str(k).replace("-", "_"): v for k, v in given.items()}
    for key in mapping.keys() - set(KEYS):
        reading.wrong(
            key, "job.unknown-key", f"A job has no {key!r}. Its keys are: {', '.join(KEYS)}."
        )
    name = reading.text(mapping, "job")
    if not is_name(name):
        message = (
            f"{name!r} can't be a job's name: use small letters, digits and hyphens, 63 at most."
        )
        reading.wrong("job", "job.name", message)
    if name in (CARRY, REMOVE) and not carry:
        reading.wrong(
            "job", "job.name", f"{name!r} stands for transfers without a job. Choose another name."
        )
    offered = (Intent.REMOVE,) if name == REMOVE and carry else INTENTS
    intent = Intent(reading.one_of(mapping, "intent", "renew", offered))
    legs = _read_legs(mapping.get("legs"), reading, intent)
    definition = Definition(
        job=name,
        title=shown_lines(reading.text(mapping, "title")) or name,
        why=shown_lines(reading.text(mapping, "why")),
        labels=reading.texts(mapping, "labels"),
        owner=reading.text(mapping, "owner") or owner,
        intent=intent,
        compare=Comparison(reading.one_of(mapping, "compare", "since-last-run", tuple(Comparison))),
        on_difference=OnDifference(
            reading.one_of(mapping, "on_difference", "replace-changed", tuple(OnDifference))
        ),
        legs=legs,
        schedule=_read_schedule(mapping.get("schedule"), reading),
        set_aside=reading.days(mapping, "set_aside", days_kept({"intent": intent})),
        limits=_read_limits(mapping.get("guards"), reading),
        keep=_read_keep(mapping, reading),
        rate=_read_rate(mapping.get("rate"), reading),
        waits_for=_read_waits_for(mapping, reading, name, intent),
        route=reading.one_of(mapping, "route", "shortest", ROUTES),
        aside_in=_read_aside_in(mapping, reading, legs),
    )
    if reading.problems:
        raise Invalid(reading.problems)
    return definition


def _read_limits(given: Any, reading: _Reading) -> Limits:
    if not given:
        return Limits()
    if not isinstance(given, Mapping):
        reading.wrong(
            "guards", "job.malformed", f"guards has numbers for: {', '.join(Limits._fields)}."
        )
        return Limits()
    told = {str(k).replace("-", "_"): v for k, v in given.items()}
    for name, value in told.items():
        if name not in Limits._fields:
            known = ", ".join(Limits._fields)
            reading.wrong(
                f"guards.{name}",
                "job.unknown-key",
                f"There is no limit {name!r}. There are: {known}.",
            )
        elif not isinstance(value, int) or isinstance(value, bool) or value < 0:
            reading.wrong(
                f"guards.{name}",
                "job.malformed",
                f"The limit {name} must be a whole number, not {value!r}.",
            )
    return Limits() if reading.problems else Limits(**told)


def _read_keep(mapping: Mapping[str, Any], reading: _Reading) -> Keep:
    wanted, storage_class = reading.texts(mapping, "keep"), reading.text(mapping, "storage_class")
    for name in wanted:
        if name not in CHOICES:
            reading.wrong(
                "keep",
                "job.unknown-choice",
                f"keep can't have {name!r}. Choose from: {', '.join(CHOICES)}.",
            )
    if storage_class and not re.fullmatch(r"[A-Z0-9_]{1,40}", storage_class):
        message = (
            f"{storage_class!r} is no storage class: write it as the store does, such as STANDARD."
        )
        reading.wrong("storage_class", "job.malformed", message)
    return Keep("permissions" in wanted, "attributes" in wanted, "tags" in wanted, storage_class)


def _read_waits_for(
    mapping: Mapping[str, Any], reading: _Reading, name: str, intent: Intent
) -> tuple[str, ...]:
    """Jobs that must have a file as well before it is cleared at the source."""
    names = tuple(sorted(set(reading.texts(mapping, "waits_for"))))
    if names and intent is not Intent.HAND_OVER:
        message = (
            "Only a job that clears its source (hand-over) waits for others; this one is "
            f"{intent.value!r}."
        )
        reading.wrong("waits_for", "job.nothing-to-wait-for", message)
    if name in names:
        reading.wrong("waits_for", "job.nothing-to-wait-for", "A job can't wait for itself.")
    return names


def _read_aside_in(mapping: Mapping[str, Any], reading: _Reading, legs: tuple[Leg, ...]) -> str:
    """The folder, from the store's or the bucket's root on, that things are set aside in: none of
    what the job works on.
    """
    given = reading.text(mapping, "aside_in").strip("/")
    if not given:
        return ""
    folder = given + "/"
    if {"", ".", ".."} & set(given.split("/")) or "\0" in given or ASIDE.decode() in folder:
        message = (
            f"aside_in {given!r} is no folder: write its path from the store's or the bucket's "
            "root on, such as kept/removed."
        )
        reading.wrong("aside_in", "job.malformed", message)
    path = folder.encode("utf-8", "surrogateescape")
    for place in [p for leg in legs for p in (leg.source, leg.target)]:
        below_bucket = place.path.partition(b"/")[2]
        if any(lies_in(p, path) or (p and lies_in(path, p)) for p in (place.path, below_bucket)):
            message = (
                f"{given} and {place} lie in one another: what is set aside must lie outside of "
                "what the job works on."
            )
            reading.wrong("aside_in", "job.aside-inside", message)
    return folder


def _read_rate(given: Any, reading: _Reading) -> int | None:
    if given in (None, "", 0):
        return None
    try:
        return read_size(str(given))
    except ValueError as exc:
        reading.wrong("rate", "job.malformed", f"rate {given!r}, bytes per second: {exc}")
        return None


def _read_legs(given: Any, reading: _Reading, intent: Intent) -> tuple[Leg, ...]:
    if not isinstance(given, list) or not given:
        reading.wrong("legs", "job.no-legs", "A job needs at least one leg with a from and a to.")
        return ()
    legs = [_read_leg(leg, f"legs[{i}].", reading) for i, leg in enumerate(given)]
    built = tuple(leg for leg in legs if leg)
    for i, leg in enumerate(built):
        if intent is Intent.MIRROR and (leg.renaming or leg.one):
            message = (
                "An exact copy keeps every name: it can't rename, and is of a folder, not of one "
                "file."
            )
            reading.wrong(f"legs[{i}].rename", "job.mirror-renames", message)
        if not leg.one and intent is not Intent.REMOVE and touch(leg.source, leg.target):
            message = (
                f"{leg.target} and {leg.source} lie in one another: a job can't copy a place "
                "into itself."
            )
            reading.wrong(f"legs[{i}].to", "job.inside-itself", message)
        for other in built[:i]:
            if other.target == leg.target:
                reading.wrong(
                    f"legs[{i}].to", "job.same-target", f"Two legs write to {leg.target}."
                )
            elif intent is Intent.MIRROR and touch(leg.target, other.target):
                message = (
                    f"{leg.target} and {other.target} lie in one another: one exact copy would "
                    "remove the other's files."
                )
                reading.wrong(f"legs[{i}].to", "job.mirror-overlaps", message)
    return built


def _read_leg(given: Any, where: str, reading: _Reading) -> Leg | None:
    if not isinstance(given, Mapping):
        reading.wrong(
            where.rstrip("."), "job.malformed", f"{where.rstrip('.')} must have from and to."
        )
        return None
    leg = {str(k).replace("-", "_"): v for k, v in given.items()}
    for key in leg.keys() - set(LEG_KEYS):
        reading.wrong(
            where + key,
            "job.unknown-key",
            f"A leg has no {key!r}. Its keys are: {', '.join(LEG_KEYS)}.",
        )
    take, leave_out = reading.texts(leg, "take", where), reading.texts(leg, "leave_out", where)
    rules = {k: leg[k] for k in RULES if leg.get(k) not in (None, "", False)}
    reading.nested(compile_selection, take, leave_out, rules, where=where)
    renaming = _read_rename(leg.get("rename"), where, reading)
    one = reading.texts(leg, "one", where)
    if one and len(one) != 2:
        reading.wrong(
            where + "one", "job.malformed", f"{where}one names a file and what it is called there."
        )
        one = ()
    folders = reading.one_of(leg, "folders", "with-files", FOLDERS)
    source = reading.nested(_place, str(leg.get("from") or ""), "from", where=where)
    target = reading.nested(_place, str(leg.get("to") or ""), "to", where=where)
    if not source or not target:
        return None
    return Leg(
        source,
        target,
        take,
        leave_out,
        tuple(rules.items()),
        renaming,
        (one[0], one[1]) if one else None,
        folders,
    )


def _read_rename(given: Any, where: str, reading: _Reading) -> Renaming | None:
    if not given:
        return None
    if not isinstance(given, Mapping):
        reading.wrong(where + "rename", "job.malformed", f"{where}rename has a pattern and a to.")
        return None

    pattern, to = str(given.get("pattern") or ""), str(given.get("to") or "")
    renaming: Renaming | None = reading.nested(read_renaming, pattern, to, where=where)
    return renaming


def _place(text: str, field: str) -> Location:
    return parse_location(text, field=field).as_prefix()


def _read_schedule(given: Any, reading: _Reading) -> Schedule | None:
    if not given:
        return None
    if not isinstance(given, Mapping):
        reading.wrong(
            "schedule", "schedule.malformed", "A schedule has a cron (five fields) and a zone."
        )
        return None
    found: Schedule | None = reading.nested(
        parse_schedule, str(given.get("cron", "")), str(given.get("zone") or "UTC")
    )
    return found
