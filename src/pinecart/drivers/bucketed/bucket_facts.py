"""What was found out of the buckets of one store, by their behaviour."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Self

from pinecart.core.ports import Abilities
from pinecart.json_object import JsonObject

UNTRIED = Abilities(create_only=True, lists_ranges=True, keeps_metadata=True)


class BucketFacts:
    """versioned, removals_guarded, copies_guarded (whether the condition of a copy is held against
    its destination): by bucket, where it was asked.   kept, dropped: bucket → headers that it was
    seen to keep, and not to keep.   untried: what is supposed of a bucket that was not tried.
    """

    def __init__(self, untried: Abilities = UNTRIED) -> None:
        self._untried = untried
        self._able: dict[str, Abilities] = {}
        self.probed: set[str] = set()
        self.versioned: dict[str, bool] = {}
        self.removals_guarded: dict[str, bool] = {}
        self.copies_guarded: dict[str, bool] = {}
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
            if bucket in self.removals_guarded:
                found[bucket]["guards_removals"] = self.removals_guarded[bucket]
            if bucket in self.copies_guarded:
                found[bucket]["guards_copies"] = self.copies_guarded[bucket]
        return found

    def remember(self, bucket: str, told: Mapping[str, Any]) -> None:
        """What `as_mapping` gave before; nonsense is nothing."""
        checksum = told.get("checksum") if isinstance(told, Mapping) else None
        if not isinstance(checksum, str):
            return
        create_only = bool(told.get("create_only", True))
        self.learn(bucket, checksum=checksum, create_only=create_only)
        self.probed.add(bucket)
        if "guards_removals" in told:
            self.removals_guarded[bucket] = bool(told["guards_removals"])
        if "guards_copies" in told:
            self.copies_guarded[bucket] = bool(told["guards_copies"])
