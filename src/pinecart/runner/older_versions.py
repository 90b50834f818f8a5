"""The versions of an object that come before its present one, carried oldest first, so that the far
side keeps the same history.

A series is nothing but the object's states one after the other: the ledger remembers each as soon
as it lies there. A run that ends in the middle is therefore gone on with after the last one.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from pinecart.core.entries import Entry, fingerprint
from pinecart.core.errors import Missing
from pinecart.core.ports import Store, Version, Versions
from pinecart.runner.decided_items import Item
from pinecart.runner.decision_ids import REPLACED, decision_id
from pinecart.runner.leg_context import Ledger, LegContext
from pinecart.runner.object_transfer import ObjectTransfer
from pinecart.runner.side import Side


class OlderVersions:
    """Of the objects of one leg."""

    def __init__(self, leg: LegContext, ledger: Ledger) -> None:
        self._leg = leg
        self._ledger = ledger

    async def carry(self, item: Item) -> tuple[Entry | None, int]:
        """Puts what is missing of them there. Gives what lies there then, and how many they were.

        Raises StoreError.
        """
        far = item.far
        if self._leg.versions < 2:
            return far, 0
        missing = await self._missing(item)
        for older in missing:
            transfer = self._reading_as(older)
            carried = await transfer.transfer(item.key, _entry_of(item, older), far)
            far = carried.placed.entry
            await self._ledger.before([], [(self._leg.number, carried.row)])
        return far, len(missing)

    async def has_begun(self, item: Item) -> bool:
        """Whether this run has put there what lies there, as one of the older versions."""
        listed = await self._older(item)
        return bool(listed) and await self._carried_before(item, listed) > 0

    async def _missing(self, item: Item) -> Sequence[Version]:
        """Those that are not there yet, oldest first, without the present one."""
        older = await self._older(item)
        return older[await self._carried_before(item, older) :]

    async def _older(self, item: Item) -> Sequence[Version]:
        """Oldest first, without the present one; none where a side keeps none."""
        assert item.entry is not None
        source = self._leg.source
        target = self._leg.target
        if not isinstance(source.store, Versions) or not isinstance(target.store, Versions):
            return []
        if not await target.store.keeps_versions(target.prefix + item.key):
            return []
        whole = source.prefix + item.entry.source_key
        older = []
        for version in await source.store.versions(whole):
            if not version.is_removal and not version.is_current:
                older.append(version)
        older.reverse()
        most = self._leg.versions - 1
        return older[-most:]

    async def _carried_before(self, item: Item, older: Sequence[Version]) -> int:
        """How many of these lie there already: up to the one that is remembered, or that this run
        put there before it was interrupted.
        """
        remembered = item.row.source if item.row else item.remembered
        own = await self._written_by(item)
        for n in range(len(older), 0, -1):
            entry = _entry_of(item, older[n - 1])
            mine = decision_id(self._leg.run, self._leg.number, entry)
            if fingerprint(entry) == remembered or mine == own:
                return n
        return 0

    async def _written_by(self, item: Item) -> str:
        """The decision that put there what lies there."""
        if item.far is None:
            return ""
        target = self._leg.target
        try:
            found = await target.store.stat(target.prefix + item.key)
        except Missing:
            return ""
        if found.card:
            return found.card.decision_id.removesuffix(REPLACED)
        return ""

    def _reading_as(self, version: Version) -> ObjectTransfer:
        """What carries an object as this version of it: through us, even within one system."""
        source = self._leg.source
        pinned: Any = _Pinned(source.store, version.version)
        options = self._leg.transfer_options._replace(
            source=Side(pinned, source.prefix), through_us=True, read_once=None
        )
        return ObjectTransfer(options)


class _Pinned:
    """A store whose objects are read as one version of them."""

    def __init__(self, store: Store, version: str) -> None:
        self._store = store
        self._version = version

    async def stat(self, key: bytes, version: str = "") -> Any:
        return await self._store.stat(key, version or self._version)

    def open(self, key: bytes, expected: Entry | None = None, *, version: str = "") -> Any:
        return self._store.open(key, expected, version=version or self._version)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._store, name)


def _entry_of(item: Item, version: Version) -> Entry:
    assert item.entry is not None
    return Entry(item.key, version.size, version.modified_ns, version.etag, was=item.entry.was)
