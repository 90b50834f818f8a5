"""Renames whose answer may be lost: what happened is asked for before anything is tried again."""

from __future__ import annotations

import contextlib
from collections.abc import Awaitable, Callable
from functools import partial

from pinecart.core.errors import Busy, Missing, StoreError, Taken
from pinecart.core.places import show
from pinecart.drivers.busy_retries import BusyRetries
from pinecart.drivers.remote_tree.names import TreeNames
from pinecart.drivers.remote_tree.remote_files import FileKind, FileLook, RemoteFiles


class CertainRenames:
    """Each of them has happened, or has not, by the time it answers.

    guards: the server was seen to refuse a rename over what is there.   conditions: to replace
    only what it was told to.
    """

    def __init__(self, files: RemoteFiles, names: TreeNames, retries: BusyRetries) -> None:
        """Until a probe has shown that the server guards a name, none is believed to be."""
        self._files = files
        self._names = names
        self._retries = retries
        self.guards = self.conditions = False

    async def if_absent(self, old: bytes, new: bytes, size: int) -> bool:
        """size: of what gets another name. True: the server itself saw to it that nothing was
        replaced; False: it was looked at just before. Raises Taken, Missing.
        """
        if not self.guards:
            there = await self._found(new)
            if there is not None:
                raise Taken(f"pine://{self._files.name}/{show(new)}: something is there.")
        rename = partial(self._files.rename, old, new)
        is_lost = await self._settled(rename, old, new, size)
        return self.guards and not is_lost

    async def replace(self, old: bytes, new: bytes, size: int, seen: FileLook | None) -> bool:
        """seen: what was there just before. True: the server itself saw to it that it still was.
        Raises Taken, Missing.
        """
        away = self._names.beside(new)  # for what was there, where it takes more than one step
        firm = self.firm(seen)
        is_lost = await self._settled(
            lambda: self._files.replace(old, new, away, firm), old, new, size
        )
        if is_lost:
            await self._retries.safely(lambda: self._clear(away))
        self._names.over(away)
        return firm is not None and not is_lost

    def firm(self, seen: FileLook | None) -> FileLook | None:
        """It, where a condition on it is kept."""
        if self.conditions and seen is not None and seen.is_firm:
            return seen
        return None

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
            except (Missing, Taken):
                if not self._files.repeats or not await self._lies_at(new, old, size):
                    raise
                is_lost = True

        await self._retries.safely(once)
        return is_lost

    async def _has_happened(self, old: bytes, new: bytes, size: int) -> bool:
        """Whether a rename whose answer was lost was done, by what lies at both names now. Raises
        Taken where neither has it.
        """
        if await self._found(old) is not None:
            return False
        if not await self._lies_at(new, old, size):
            raise Taken(f"{self._files.name}: what was renamed is at neither name any more.")
        return True

    async def _lies_at(self, path: bytes, rather: bytes, size: int) -> bool:
        """Here, and not there any more."""
        if await self._found(rather) is not None:
            return False
        there = await self._found(path)
        return there is not None and (there.kind is not FileKind.FILE or there.size == size)

    async def _found(self, path: bytes) -> FileLook | None:
        try:
            return await self._retries.safely(lambda: self._files.look(path))
        except Missing:
            return None


async def replaced_in_steps(files: RemoteFiles, old: bytes, new: bytes, away: bytes) -> None:
    """What was there is kept under another name until the new one has its place."""
    if await is_there(files, new):  # a try whose answer was lost may have moved it already
        await _renamed(files, new, away)
    try:
        await _renamed(files, old, new)
    except Busy:  # whether it happened is asked for before it is tried again
        raise
    except StoreError:
        with contextlib.suppress(Missing):
            await _renamed(files, away, new)
        raise
    with contextlib.suppress(Missing):
        await files.remove(away)


async def _renamed(files: RemoteFiles, old: bytes, new: bytes) -> None:
    """A line that repeats a request by itself gets `not there` for one that was done before: both
    names are looked at then.
    """
    try:
        await files.rename(old, new)
    except (Missing, Taken):
        happened = not await is_there(files, old) and await is_there(files, new)
        if not (files.repeats and happened):
            raise


async def is_there(files: RemoteFiles, path: bytes) -> bool:
    try:
        await files.look(path)
    except Missing:
        return False
    return True
