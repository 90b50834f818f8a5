"""Renames whose answer may be lost: what happened is asked for before anything is tried again."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from pinecart.core.errors import Busy, Missing, Taken
from pinecart.drivers.patience import Patience
from pinecart.drivers.remote_tree.remote_files import Found, RemoteFiles


class CertainRenames:
    """Each of them has happened, or has not, by the time it answers."""

    def __init__(self, files: RemoteFiles, patience: Patience) -> None:
        self._files, self._patience = files, patience

    async def if_absent(self, old: bytes, new: bytes) -> bool:
        """True: the server itself sees to it that nothing is replaced. Raises Taken, Missing."""
        return await self._settled(self._files.rename_if_absent, old, new, replaces=False)

    async def replace(self, old: bytes, new: bytes) -> None:
        async def replaced(old: bytes, new: bytes) -> bool:
            await self._files.replace(old, new)
            return False

        await self._settled(replaced, old, new, replaces=True)

    async def _settled(
        self,
        rename: Callable[[bytes, bytes], Awaitable[bool]],
        old: bytes,
        new: bytes,
        *,
        replaces: bool,
    ) -> bool:
        was = await self._found(old)
        if was is None:
            raise Missing(f"{self._files.name}: what was to be renamed is gone.")
        is_lost = False

        async def once() -> bool:
            nonlocal is_lost
            if is_lost and await self._has_happened(was, old, new, replaces=replaces):
                return False
            try:
                return await rename(old, new)
            except Busy:
                is_lost = True
                raise

        return await self._patience.safely(once)

    async def _has_happened(self, was: Found, old: bytes, new: bytes, *, replaces: bool) -> bool:
        there = await self._found(new)
        is_it = there is not None and there[:3] == was[:3]
        if await self._found(old) is None:
            if not is_it:
                raise Taken(f"{self._files.name}: what was renamed is at neither name any more.")
            return True
        # Some servers rename by a second name and then take the first away: cut between the two,
        # both are one file.
        both = is_it and there is not None and bool(there.inode) and there.inode == was.inode
        if both and not replaces:
            await self._files.remove(old)
            return True
        return False

    async def _found(self, path: bytes) -> Found | None:
        try:
            return await self._patience.safely(lambda: self._files.look(path))
        except Missing:
            return None
