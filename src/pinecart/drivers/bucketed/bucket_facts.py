"""What was found out of the buckets of one store, by their behaviour."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, fields
from typing import Any, Self

from pinecart.core.ports import Abilities
from pinecart.json_object import JsonObject

UNTRIED = Abilities(create_only=True, lists_ranges=True, keeps_metadata=True)


@dataclass
class Guards:
    """Bucket → whether a condition was seen to be held there, where that was asked.

    replacements: of a plain write, against the ETag of what it replaces.   removals: of a removal.
    copies, sources: of a copy, against its destination and its source.   completions: of the step
    that makes an object of parts.
    """

    replacements: dict[str, bool] = field(default_factory=dict)
    removals: dict[str, bool] = field(default_factory=dict)
    copies: dict[str, bool] = field(default_factory=dict)
    sources: dict[str, bool] = field(default_factory=dict)
    completions: dict[str, bool] = field(default_factory=dict)

    def of(self, bucket: str) -> dict[str, bool]:
        """What is known of one bucket, by the names under which `remember` takes it up again;
        what was never asked is left out.
        """
        found = {}
        for which in fields(self):
            held = getattr(self, which.name)
            if bucket in held:
                found[f"guards_{which.name}"] = held[bucket]
        return found

    def remember(self, bucket: str, told: Mapping[str, Any]) -> None:
        for which in fields(self):
            name = f"guards_{which.name}"
            if name in told:
                getattr(self, which.name)[bucket] = bool(told[name])


class BucketFacts:
    """versioned: bucket → whether it keeps versions, where it was asked.   joins: bucket → whether
    an object can be made of segments there, where that was asked.   kept, dropped: bucket → headers
    that it was seen to keep, and not to keep.   untried: what is supposed of a bucket that was not
    tried.
    """

    def __init__(self, untried: Abilities = UNTRIED) -> None:
        self._untried = untried
        self._able: dict[str, Abilities] = {}
        self.probed: set[str] = set()
        self.versioned: dict[str, bool] = {}
        self.guards = Guards()
        self.joins: dict[str, bool] = {}
        self.kept: dict[str, set[str]] = {}
        self.dropped: dict[str, set[str]] = {}

    @classmethod
    def learned_before(cls, spec: Mapping[str, Any], untried: Abilities = UNTRIED) -> Self:
        """What a store's spec has as `abilities`."""
        facts = cls(untried)
        for bucket, told in (spec.get("abilities") or {}).items():
            facts.remember(bucket, told)
        return facts

    def able(self, bucket: str) -> Abilities:
        return self._able.get(bucket, self._untried)

    def learn(self, bucket: str, **found: Any) -> None:
        self._able[bucket] = self.able(bucket)._replace(**found)

    def as_mapping(self) -> JsonObject:
        """As JSON; `remember` takes it up again."""
        found: JsonObject = {}
        for bucket in self.probed:
            able = self.able(bucket)
            found[bucket] = {"checksum": able.checksum, "create_only": able.create_only}
            found[bucket] |= self.guards.of(bucket)
            if bucket in self.joins:
                found[bucket]["joins"] = self.joins[bucket]
        return found

    def remember(self, bucket: str, told: Mapping[str, Any]) -> None:
        """What `as_mapping` gave before; nonsense is nothing."""
        checksum = told.get("checksum") if isinstance(told, Mapping) else None
        if not isinstance(checksum, str):
            return
        create_only = bool(told.get("create_only", True))
        self.learn(bucket, checksum=checksum, create_only=create_only)
        self.probed.add(bucket)
        self.guards.remember(bucket, told)
        if "joins" in told:
            self.joins[bucket] = bool(told["joins"])
