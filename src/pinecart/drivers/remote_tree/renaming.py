"""Renames whose answer may be lost: what happened is asked for before anything is tried again."""

from __future__ import annotations

import contextlib
from collections.abc import Awaitable, Callable

from pinecart.core.errors import Busy, Missing, Taken
from pinecart.core.places import show
from pinecart.drivers.busy_retries import BusyRetries
from pinecart.drivers.remote_tree.names import TreeNames
from pinecart.drivers.remote_tree.remote_files import FileKind, FileLook, RemoteFiles


class CertainRenames:
    """Each of them has happened, or has not, by the time it answers.

    guards: the server was seen to refuse a rename over what is there.
    """

    def __init__(self, files: RemoteFiles, names: TreeNames, retries: BusyRetries) -> None:
        self._files, self._names, self._retries = files, names, retries
        self.guards = False

    async def if_absent(self, old: bytes, new: bytes, size: int) -> bool:
        """size: of what gets another name. True: the server itself saw to it that nothing was
        replaced; False: it was looked at just before. Raises Taken, Missing.
        """
        if not self.guards and await self._found(new) is not None:
            raise Taken(f"pine://{self._files.name}/{show(new)}: something is there.")
        is_lost = await self._settled(lambda: self._files.rename(old, new), old, new, size)
        return self.guards and not is_lost

    async def replace(self, old: bytes, new: bytes, size: int) -> None:
        away = self._names.beside(new)  # for what was there, where it takes more than one step
        is_lost = await self._settled(lambda: self._files.replace(old, new, away), old, new, size)
        if is_lost:
            await self._retries.safely(lambda: self._clear(away))
        self._names.over(away)

    async def _clear(self, path: bytes) -> None:
        with contextlib.suppress(Missing):
            await self._files.remove(path)

    async def _settled(
        self, rename: Callable[[], Awaitable[None]], old: bytes, new: bytes, size: int
    ) -> bool:
        """Whether an answer was lost."""
        is_lost = False

        async def once() -> None:
            nonlocal is_lost
            if is_lost and await self._has_happened(old, new, size):
                return
            try:
                await rename()
            except Busy:
                is_lost = True
                raise

        await self._retries.safely(once)
        return is_lost

    async def _has_happened(self, old: bytes, new: bytes, size: int) -> bool:
        if await self._found(old) is not None:
            return False
        there = await self._found(new)
        if there is None or (there.kind is FileKind.FILE and there.size != size):
            raise Taken(f"{self._files.name}: what was renamed is at neither name any more.")
        return True

    async def _found(self, path: bytes) -> FileLook | None:
        try:
            return await self._retries.safely(lambda: self._files.look(path))
        except Missing:
            return None
