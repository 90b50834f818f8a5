"""Of a leg that takes only what is younger than the youngest file there: which that is, of the leg
or of each of its folders, looked up before anything is decided.

The time of a file there is its own, where the store keeps times; else what is remembered of its
source; else when it was put there.
"""

from __future__ import annotations

from collections.abc import AsyncIterator

from pinecart.core.columns import Rows
from pinecart.core.entries import Entry, modified_ns_of
from pinecart.runner.leg_context import LegContext
from pinecart.runner.listing_streams import far_entries, nothing
from pinecart.runner.name_folding import OneName, matched

BY_FOLDER = "folder"


class YoungestThere:
    """times: folder → the youngest time there, in ns since 1970 UTC; of a whole leg its one folder
    is the empty one.
    """

    def __init__(self, scope: str) -> None:
        self._by_folder = scope == BY_FOLDER
        self.times: dict[bytes, int] = {}

    def _folder(self, key: bytes) -> bytes:
        if self._by_folder:
            return key.rpartition(b"/")[0]
        return b""

    def note(self, key: bytes, modified_ns: int | None) -> None:
        folder = self._folder(key)
        if modified_ns is not None and modified_ns > self.times.get(folder, -1):
            self.times[folder] = modified_ns

    def time_for(self, key: bytes) -> int | None:
        """What a file called so there must be younger than; None: nothing is there yet."""
        return self.times.get(self._folder(key))

    def leaves_out(self, key: bytes, entry: Entry) -> bool:
        """Whether a file of the source, called so there, is no younger. One without a time is
        never left out, nor is any where nothing is there yet.
        """
        youngest = self.time_for(key)
        if youngest is None or entry.modified_ns is None:
            return False
        return entry.modified_ns <= youngest


async def youngest_there(
    leg: LegContext, rows: AsyncIterator[Rows], names: OneName
) -> YoungestThere:
    """Lists the far side once, beside what is remembered of it."""
    found = YoungestThere(leg.younger_than)
    able = await leg.target.store.abilities(leg.target.prefix)
    far = far_entries(leg.target, leg.one)
    async for some in matched(nothing(), far, rows, names):
        for key, _, there, row in some:
            if there is None or there.is_folder:
                continue
            remembered = modified_ns_of(row.source) if row else None
            own = there.modified_ns if able.keeps_times or remembered is None else remembered
            found.note(key, own)
    return found
