"""A job's definition: what is transferred, by which rules."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from pinecart.core.decide import Comparison, Intent, OnDifference, Rules
from pinecart.core.guards import Limits
from pinecart.core.keeping import CHOICES, Keep
from pinecart.core.option_spec import CARRY, INVENTORY, JOB, REMOVE
from pinecart.core.options import OPTIONS, REMOVING, of_use
from pinecart.core.places import Location, key_of_text, parse_location
from pinecart.core.renaming import Renaming
from pinecart.core.selection import RULES, Selection, compile_selection, read_size, read_span
from pinecart.core.triggers import Trigger
from pinecart.json_object import JsonObject

# A rule that got another name is the same rule: what was carried out by it before still counts.
_DIGESTED_AS = {"changed_within": "newer_than", "unchanged_for": "older_than"}


def use_of(job: str) -> str:
    """What a definition of this name is of: a job, a one-off transfer, a one-off removal, or an
    inventory.
    """
    if job in (CARRY, REMOVE, INVENTORY):
        return job
    return JOB


def days_kept(mapping: Mapping[str, Any]) -> int:
    """Days for which a definition, as JSON, sets aside what it removes or replaces."""
    by_default = OPTIONS["set_aside"].default(Intent(mapping["intent"]))
    return int(mapping.get("set_aside", by_default))


def _digest(mapping: Mapping[str, Any]) -> str:
    return hashlib.sha256(json.dumps(mapping, sort_keys=True).encode()).hexdigest()[:16]


@dataclass(frozen=True)
class Leg:
    """One pair of places.

    options: name → value, of every option that a leg has.   one: only this file, and its name
    there.
    """

    source: Location
    target: Location
    options: Mapping[str, Any]
    one: tuple[str, str] | None = None

    @property
    def folders(self) -> str:
        """Which folders are made: "with-files", "empty-too" or "only"."""
        return str(self.options["folders"])

    @property
    def younger_than(self) -> str:
        """Only what is younger than the youngest there, of the "leg" or of each "folder"; empty:
        whatever there is.
        """
        return str(self.options["younger_than_there"])

    @property
    def changing_tries(self) -> int:
        """So often a file that changes while it is read is tried."""
        if self.options["open_files"] == "leave":
            return 1
        return 3

    @property
    def read_place(self) -> Location:
        """Where its files are read: the source, or a snapshot of it in the same store."""
        snapshot = self.options["snapshot"]
        if not snapshot:
            return self.source
        return self.source._replace(path=key_of_text(snapshot, field="snapshot"))

    @property
    def is_on(self) -> bool:
        return not self.options["switched_off"]

    @property
    def renaming(self) -> Renaming | None:
        rename = self.options["rename"]
        if rename:
            return Renaming(**rename)
        return None

    @property
    def selection(self) -> Selection:
        rules = {name: self.options[name] for name in RULES if self.options[name] is not None}
        return compile_selection(self.options["take"], self.options["leave_out"], rules)

    @property
    def digest(self) -> str:
        """Of its selection: another one may leave out what was carried before."""
        rules = self.as_mapping()
        del rules["from"], rules["to"]
        rules.pop("switched_off", None)  # what it takes when it is on again is the same
        return _digest({_DIGESTED_AS.get(name, name): value for name, value in rules.items()})

    def as_mapping(self) -> JsonObject:
        """As a job's definition has it: what is as by default is left out, so that two legs that
        mean the same read the same.
        """
        told: JsonObject = {"from": self.source.text, "to": self.target.text}
        for name, value in self.options.items():
            option = OPTIONS[name]
            told |= option.told(value, Intent.RENEW)
        if self.one:
            told["one"] = list(self.one)
        return told


@dataclass(frozen=True)
class Definition:
    """Built by `read_definition`, which has checked it.

    options: name → value, of every option that its use has.
    """

    job: str
    title: str
    why: str
    labels: tuple[str, ...]
    owner: str
    options: Mapping[str, Any]
    legs: tuple[Leg, ...]
    trigger: Trigger | None = None

    def __getitem__(self, name: str) -> Any:
        """The value of an option, also of one that its use doesn't have."""
        if name in self.options:
            return self.options[name]
        return OPTIONS[name].default(self.intent)

    @property
    def intent(self) -> Intent:
        return Intent(self.options["intent"])

    @property
    def log_place(self) -> Location | None:
        """A file that its runs' logs are appended to as well."""
        if self["log_file"]:
            return parse_location(self["log_file"])
        return None

    @property
    def compare(self) -> Comparison:
        return Comparison(self["compare"])

    @property
    def rules(self) -> Rules:
        return Rules(self.intent, OnDifference(self["on_difference"]), self.compare)

    @property
    def set_aside(self) -> int:
        """Days that what is removed or replaced is kept; 0: not at all."""
        return int(self["set_aside"])

    @property
    def aside_prefix(self) -> bytes:
        """Where to, relative to the store's, or the bucket's, root; empty: the usual place."""
        return str(self["aside_in"]).encode("utf-8", "surrogateescape")

    @property
    def limits(self) -> Limits:
        return Limits(**self["guards"])

    @property
    def keep(self) -> Keep:
        return Keep(
            **{name: name in self["keep"] for name in CHOICES},
            storage_class=self["storage_class"],
        )

    @property
    def rate(self) -> int | None:
        """Bytes a second at most."""
        if self["rate"]:
            return read_size(self["rate"])
        return None

    @property
    def waits_for(self) -> tuple[str, ...]:
        """Jobs that must have a file as well before it is cleared at the source."""
        return tuple(self["waits_for"])

    @property
    def spread_s(self) -> int:
        """Seconds by which a start by itself may be later than it is due."""
        if self["spread"]:
            return read_span(self["spread"])
        return 0

    @property
    def goes_through_us(self) -> bool:
        return bool(self["route"] == "through-us")

    @property
    def removes_unreviewed(self) -> bool:
        """Whether it removes files, and is no job, which somebody who may define
        them answers for.
        """
        return use_of(self.job) != JOB and self.intent in REMOVING

    def as_mapping(self) -> JsonObject:
        """The definition as JSON; `read_definition` gives it back."""
        told: JsonObject = {
            "job": self.job,
            "title": self.title,
            "why": self.why,
            "labels": list(self.labels),
            "owner": self.owner,
            "legs": [leg.as_mapping() for leg in self.legs],
            "schedule": self.trigger and self.trigger.as_mapping(),
        }
        for option in of_use(JOB, is_of_leg=False):
            told |= option.told(self[option.name], self.intent)
        return told

    @property
    def digest(self) -> str:
        return _digest(self.as_mapping())
