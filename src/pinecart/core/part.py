"""A part of a job: a run, or a preview, of some of its files only."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

from pinecart.core.errors import Invalid
from pinecart.core.places import key_of_text, key_text, show
from pinecart.json_object import JsonObject

MOST_NAMED = 5  # files that are told by name


class Part(NamedTuple):
    """What of a job a run looks at, and how settled a file must be.

    first: so many files are copied or replaced, and nothing else is done; 0: all.   keys: only
    these, as they are called at either side; none: all.   prefix: only what is called so at first.
    leg: only the leg of this number, from 1; 0: all.   settled_s: a file that was changed within so
    many seconds is still growing, and left for a later run; 0: that isn't asked.   exactly: only
    what the preview of this number would do, as far as it is still as it was seen then; 0: whatever
    is to be done.
    """

    first: int = 0
    keys: frozenset[bytes] = frozenset()
    prefix: bytes = b""
    leg: int = 0
    settled_s: int = 0
    exactly: int = 0

    @property
    def is_all(self) -> bool:
        """Whether every name is looked at."""
        return self._replace(settled_s=0, exactly=0) == Part()

    @property
    def is_whole(self) -> bool:
        """Whether all is done that is to be done."""
        return self.is_all and not self.exactly

    def is_growing(self, modified_ns: int | None, now_ns: int) -> bool:
        """Whether a file that was changed then is left for a later run. One from the future isn't:
        its clock is another.
        """
        if not self.settled_s or modified_ns is None:
            return False
        age_ns = now_ns - modified_ns
        return 0 <= age_ns < self.settled_s * 10**9

    def has_leg(self, number: int) -> bool:
        """number: from 0."""
        return self.leg in (0, number + 1)

    def takes(self, key: bytes, source_key: bytes) -> bool:
        """Whether a file with these names there and here is looked at."""
        if self.keys:
            return key in self.keys or source_key in self.keys
        return key.startswith(self.prefix) or source_key.startswith(self.prefix)

    def as_mapping(self) -> JsonObject:
        told: JsonObject = {}
        if self.first:
            told["first"] = self.first
        if self.keys:
            told["only"] = [key_text(key) for key in sorted(self.keys)]
        if self.prefix:
            told["prefix"] = key_text(self.prefix)
        if self.leg:
            told["leg"] = self.leg
        if self.settled_s:
            told["settled_s"] = self.settled_s
        if self.exactly:
            told["exactly"] = self.exactly
        return told

    def describe(self) -> str:
        """In words that follow on "Only"; empty: all of the job."""
        words = []
        if self.leg:
            words.append(f"leg {self.leg}")
        if len(self.keys) > MOST_NAMED:
            words.append(f"{len(self.keys):,} files")
        elif self.keys:
            words.append(", ".join(show(key) for key in sorted(self.keys)))
        if self.prefix:
            words.append(f"below {show(self.prefix)}")
        if self.first:
            words.append(f"the first {self.first}")
        if self.exactly:
            words.append(f"what preview {self.exactly} found")
        return "; ".join(words)


ALL = Part()


def read_part(given: Mapping[str, Any], legs: int) -> Part:
    """legs: how many the job has. Raises Invalid."""

    def number(name: str) -> int:
        return int(given.get(name) or 0)

    leg = number("leg")
    if leg > legs:
        message = f"There is no leg {leg}: the job has {legs}."
        raise Invalid([{"field": "leg", "code": "part.no-such-leg", "message": message}])
    only = given.get("only") or ()
    prefix = given.get("prefix") or ""
    return Part(
        keys=frozenset(key_of_text(text, field="only") for text in only),
        prefix=key_of_text(prefix, field="prefix"),
        leg=leg,
        first=number("first"),
        settled_s=number("settled_s"),
        exactly=number("exactly"),
    )
