"""Renames whose answer may be lost: what happened is asked for before anything is tried again."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from pinecart.core.errors import Busy, Missing, Taken
from pinecart.drivers.busy_retries import BusyRetries
from pinecart.drivers.remote_tree.remote_files import FileKind, FileLook, RemoteFiles


class CertainRenames:
    """Each of them has happened, or has not, by the time it answers."""

    def __init__(self, files: RemoteFiles, retries: BusyRetries) -> None:
        self._files, self._retries = files, retries

    async def if_absent(self, old: bytes, new: bytes, size: int) -> bool:
        """size: of what gets another name. True: the server itself sees to it that nothing is
        replaced. Raises Taken, Missing.
        """
        return await self._settled(self._files.rename_if_absent, old, new, size)

    async def replace(self, old: bytes, new: bytes, size: int) -> None:
        async def replaced(old: bytes, new: bytes) -> bool:
            await self._files.replace(old, new)
            return False

        await self._settled(replaced, old, new, size)

    async def _settled(
        self, rename: Callable[[bytes, bytes], Awaitable[bool]], old: bytes, new: bytes, size: int
    ) -> bool:
        is_lost = False

        async def once() -> bool:
            nonlocal is_lost
            if is_lost and await self._has_happened(old, new, size):
                return False
            try:
                return await rename(old, new)
            except Busy:
                is_lost = True
                raise

        return await self._retries.safely(once)

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
