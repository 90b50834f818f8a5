from __future__ import annotations

import hashlib
from collections.abc import AsyncIterator, Mapping, Sequence
from typing import NamedTuple

from pinecart.core.definition import Leg
from pinecart.core.entries import Entry
from pinecart.core.ports import Store


def identity_of(leg: Leg, stores: Mapping[str, Store]) -> str:
    """Of the two places of a leg and its renaming: what it remembers is of just these."""
    told = []
    for place in (leg.source, leg.target):
        store = stores[place.store]
        told.append(store.identity(place.path))
    told += leg.renaming or ()
    text = "\n".join(told)
    return hashlib.sha256(text.encode()).hexdigest()


class Side(NamedTuple):
    """A store and the prefix of the leg in it.

    ours: below these relative prefixes lies what runs of ours put there; no file of theirs.
    """

    store: Store
    prefix: bytes
    ours: tuple[bytes, ...] = ()

    def listed(self, *, after: bytes = b"", folders: str = "") -> AsyncIterator[Sequence[Entry]]:
        """Its listing, without what is ours."""
        found = self.store.list(self.prefix, after=after, folders=folders)
        if self.ours:
            return self._without_ours(found)
        return found

    async def _without_ours(
        self, pages: AsyncIterator[Sequence[Entry]]
    ) -> AsyncIterator[Sequence[Entry]]:
        """Pages without what lies in folders of ours, such as those of what was set aside. Pages
        that have nothing else are left out.
        """
        async for page in pages:
            first = page[0].key
            last = page[-1].key
            below = [folder for folder in self.ours if folder <= last]
            near = tuple(folder for folder in below if first < _past(folder))
            if near:
                page = [entry for entry in page if not entry.key.startswith(near)]
            if page:
                yield page


def _past(prefix: bytes) -> bytes:
    """The first name after all that begin so."""
    return prefix[:-1] + bytes([prefix[-1] + 1])
