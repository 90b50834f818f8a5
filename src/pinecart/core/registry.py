"""A table of what there is of one sort: kinds of store, options of a job, triggers, formats."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import Generic, TypeVar

Member = TypeVar("Member")


class Registry(Mapping[str, Member], Generic[Member]):
    """Name → member, in the order in which they are shown."""

    def __init__(self, what: str) -> None:
        self._what = what
        self._members: dict[str, Member] = {}

    def add(self, name: str, member: Member) -> Member:
        """Raises ValueError if there is one of that name."""
        if name in self._members:
            raise ValueError(f"There is a {self._what} {name!r} already.")
        self._members[name] = member
        return member

    @contextmanager
    def including(self, name: str, member: Member) -> Iterator[Member]:
        """With one more, for as long as the block lasts."""
        self.add(name, member)
        try:
            yield member
        finally:
            del self._members[name]

    def __getitem__(self, name: str) -> Member:
        return self._members[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._members)

    def __len__(self) -> int:
        return len(self._members)
