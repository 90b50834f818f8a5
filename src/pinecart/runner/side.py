from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from typing import NamedTuple

from pinecart.core.entries import Entry
from pinecart.core.places import ASIDE
from pinecart.core.ports import Store


class Side(NamedTuple):
    """A store and the prefix of the leg in it. ours: what lies below is what runs of ours set aside; no file of theirs."""

    store: Store
    prefix: bytes
    ours: frozenset[bytes] = frozenset()

    def listed(self, *, after: bytes = b"", folders: str = "") -> AsyncIterator[Sequence[Entry]]:
        """Its listing, without what is ours."""
        found = self.store.list(self.prefix, after=after, folders=folders)
        return self._without_ours(found) if self.ours and self.prefix == self.store.home(self.prefix) else found

    async def _without_ours(self, pages: AsyncIterator[Sequence[Entry]]) -> AsyncIterator[Sequence[Entry]]:
        async for page in pages:
            if page[-1].key >= ASIDE and page[0].key < ASIDE[:-1] + b"0":
                page = [e for e in page if b"/".join(e.key.split(b"/", 2)[:2]) + b"/" not in self.ours]
            if page:
                yield page
