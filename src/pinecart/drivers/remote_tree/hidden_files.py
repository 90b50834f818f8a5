"""Files under hidden names: cleared where they didn't get the name they were meant for."""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from pinecart.core.errors import Missing, StoreError
from pinecart.drivers.remote_tree.names import TreeNames
from pinecart.drivers.remote_tree.remote_files import RemoteFiles


class HiddenFiles:
    """Remembers those that could not be taken away at once."""

    def __init__(self, files: RemoteFiles, names: TreeNames) -> None:
        self._files = files
        self._names = names
        self._left: set[bytes] = set()

    @asynccontextmanager
    async def beside(self, key: bytes) -> AsyncIterator[bytes]:
        """A hidden path in the folder of `key`, for something that gets another name here."""
        hidden = self._names.beside(key)
        try:
            yield hidden
        except BaseException:
            self._left.add(hidden)
            with contextlib.suppress(StoreError):
                await self.clear(hidden)
            raise
        self._names.over(hidden)

    async def clear(self, hidden: bytes) -> None:
        """One attempt to take an unfinished file away: what can't be reached now is cleared
        before the next write. Raises what kept it.
        """
        with contextlib.suppress(Missing):
            await self._files.remove(hidden)
        self._left.discard(hidden)
        self._names.over(hidden)

    async def clear_left(self) -> None:
        for hidden in list(self._left):
            with contextlib.suppress(StoreError):
                await self.clear(hidden)
