"""Takes objects away from one side of a leg: set aside under `.pinecart-aside/` of the same store,
or for good.

What is set aside is journalled and committed before anything moves. A folder's file is renamed; a
bucket's object is copied, then deleted; in a bucket that keeps versions it is only deleted, and the
version recorded. What can't be set aside is not removed.
"""

from __future__ import annotations

from typing import NamedTuple

from pinecart.core.entries import Aside, Entry, fingerprint, same
from pinecart.core.errors import Taken
from pinecart.core.places import aside_key, show
from pinecart.core.ports import Folders, Renames, Versions
from pinecart.runner.object_transfer import ObjectTransfer
from pinecart.runner.side import Side


class Away(NamedTuple):
    """How one object was taken away.

    kept: fingerprint of what was set aside; empty: nothing was.
    """

    guarded: bool
    kept: str = ""


class AsidePolicy(NamedTuple):
    """What of a run's is kept when it is taken away, and where.

    days: for how long; 0: not at all.
    within: the folder, from the store's root on, in which it is kept.
    """

    run: int
    leg: int
    days: int = 0
    within: bytes = b""


class SideRemover:
    """name: "source" or "target".   at: where that is."""

    def __init__(self, name: str, at: Side, transfer: ObjectTransfer, policy: AsidePolicy) -> None:
        self._name = name
        self._at = at
        self._transfer = transfer
        self._policy = policy
        store = at.store  # asked once, not for each object
        self._versions = store if isinstance(store, Versions) else None
        self._renames = store if isinstance(store, Renames) else None
        self._folders = store if isinstance(store, Folders) else None

    async def aside_of(self, key: bytes, whole: bytes, entry: Entry) -> Aside | None:
        """What is journalled before `key`, the object `whole` of the store, is taken away.

        None: it isn't kept. Raises Taken if it isn't as it was when this was planned.
        """
        leg = self._policy.leg
        store = self._at.store
        if not self._policy.days or entry.is_folder:
            return None
        kept = Aside(leg, self._name, key, whole, entry.size, fingerprint(entry))
        if self._versions and await self._versions.keeps_versions(whole):
            now = (await store.stat(whole)).entry
            if not same(now, entry):
                message = "is not as it was when this was planned. It was left alone."
                raise Taken(f"{show(whole)} {message}")
            if now.version:
                return kept._replace(version=now.version)
        run = self._policy.run
        within = self._policy.within
        return kept._replace(at=aside_key(store.home(whole), run, leg, whole, within))

    async def take_away(self, whole: bytes, entry: Entry, aside: Aside | None) -> Away:
        """Raises StoreError; then it is still there."""
        store = self._at.store
        if aside is None or aside.version:
            taken = Away(await store.remove(whole, entry), fingerprint(entry) if aside else "")
        elif self._renames:
            moved = await self._renames.move(whole, aside.at, entry)
            taken = Away(False, fingerprint(moved))
        else:
            kept = await self.keep(whole, entry, aside)
            taken = Away(await store.remove(whole, entry), kept)
        if self._folders:
            await self._folders.tidy(self._at.prefix, whole)
        return taken

    async def keep(self, whole: bytes, entry: Entry, aside: Aside) -> str:
        """A second copy of what is about to be replaced or removed.

        Gives the copy's fingerprint.
        """
        if aside.version:
            return fingerprint(entry)
        return fingerprint(await self._transfer.second(self._at.store, whole, entry, aside.at))

    async def bring_back(self, aside: Aside, whole: bytes) -> Entry:
        """Give what was set aside its name again, where nothing is now. Raises Taken, Missing."""
        store = self._at.store
        kept = (await store.stat(aside.at, aside.version)).entry
        if aside.version:
            return await self._transfer.second(store, whole, kept, whole, aside.version)
        if self._renames:
            moved = await self._renames.move(aside.at, whole, kept)
        else:
            moved = await self._transfer.second(store, aside.at, kept, whole)
            await store.remove(aside.at, kept)
        if self._folders:
            await self._folders.tidy(store.home(whole), aside.at)
        return moved
