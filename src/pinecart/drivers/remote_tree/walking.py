"""A remote tree's listing, in the order of whole keys: a folder sorts as if its name ended in `/`.

Names of one folder are held while it is listed; the next few folders are asked for ahead.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncGenerator, Sequence
from functools import partial
from itertools import islice

from pinecart.core.entries import Entry
from pinecart.core.errors import Halting, Incomplete, Missing, Refused
from pinecart.drivers.busy_retries import BusyRetries
from pinecart.drivers.file_names import folder_entry, joined
from pinecart.drivers.remote_tree.facts import entry_of
from pinecart.drivers.remote_tree.links import TreeLinks
from pinecart.drivers.remote_tree.names import TreeNames
from pinecart.drivers.remote_tree.remote_files import FileKind, Named, RemoteFiles

PAGE = 1000
AHEAD = 6
NO_NAMES = (b"", b".", b"..")
Pages = AsyncGenerator[list[Entry], None]


class TreeWalk:
    """folders: "all" or "empty" ones are entries too.   after: only what comes after this key.

    Files that this very run left half written, in a process that is no more, are cleared as they
    are met.
    """

    def __init__(
        self,
        files: RemoteFiles,
        links: TreeLinks,
        retries: BusyRetries,
        hidden: TreeNames,
        *,
        folders: str = "",
        after: bytes = b"",
    ) -> None:
        self._files = files
        self._links = links
        self._retries = retries
        self._hidden = hidden
        self._folders = folders
        self._after = after

    async def pages(self, path: bytes) -> Pages:
        """Pages of the same size whatever the folders hold: many small ones are put together, a
        large one is cut.
        """
        held: list[Entry] = []
        named = await self.names(path)
        above = frozenset([await self._links.real(path)]) if self._follows else frozenset()
        async for some in self._below(path, b"", named, above):
            held += some
            while len(held) >= PAGE:
                yield held[:PAGE]
                held = held[PAGE:]
        if held:
            yield held

    @property
    def _follows(self) -> bool:
        return self._links.rule == "follow"

    async def names(self, path: bytes) -> list[Named]:
        """Of one folder, in the order in which they are told; those of folders end in `/`."""
        ask = partial(self._files.names, path)
        found = []
        for name, seen in await self._retries.safely(ask):
            if b"/" in name or b"\0" in name or name in NO_NAMES:
                raise Incomplete(
                    f"{self._files.name} lists a name that no file can have: {name!r}."
                )
            full = joined(path, name)
            if self._hidden.is_resumable(name):
                continue
            if self._hidden.is_left(name) and await self._cleared(full, seen.kind):
                continue
            if seen.kind is FileKind.LINK:
                if self._links.rule == "skip":
                    continue
                if self._follows:
                    seen = await self._links.followed(full)
            told = name + b"/" if seen.kind is FileKind.FOLDER else name
            found.append(Named(told, seen))
        found.sort(key=lambda named: named.name)
        return found

    async def _cleared(self, path: bytes, kind: FileKind) -> bool:
        """Of a folder that was on its way to be removed what lies in it is listed."""
        if kind is FileKind.FILE:
            await self._retries.safely(partial(self._clear, path))
            return True
        if kind is not FileKind.FOLDER:
            return False
        inside = partial(self._files.names, path)
        if await self._retries.safely(inside):
            return False
        await self._retries.safely(partial(self._files.remove_folder, path))
        return True

    async def _clear(self, path: bytes) -> None:
        try:
            await self._files.remove(path)
        except Missing:
            """It is gone already."""

    async def _below(
        self, path: bytes, base: bytes, named: Sequence[Named], above: frozenset[bytes | None]
    ) -> Pages:
        """above: where the folders really are that it lies in; a link to one would never end."""
        if base > self._after and (
            self._folders == "all" or (self._folders == "empty" and not named)
        ):
            yield [folder_entry(base)]
        named = self._still_to_come(base, named)
        coming = (n.name for n in named if n.name.endswith(b"/"))
        ahead: dict[bytes, asyncio.Task[list[Named]]] = {}
        try:
            some: list[Entry] = []
            for name, found in named:
                key = base + name
                if not name.endswith(b"/"):
                    some.append(entry_of(key, found, links=self._links.rule))
                    continue
                if some:
                    yield some
                    some = []
                for inner in islice(coming, AHEAD - len(ahead)):
                    ahead[inner] = asyncio.create_task(self.names(joined(path, inner[:-1])))
                async for page in self._inside(
                    joined(path, name[:-1]), key, ahead.pop(name), above
                ):
                    yield page
            if some:
                yield some
        finally:
            for task in ahead.values():
                task.cancel()
            await asyncio.gather(*ahead.values(), return_exceptions=True)

    async def _inside(
        self,
        path: bytes,
        key: bytes,
        listing: asyncio.Task[list[Named]],
        above: frozenset[bytes | None],
    ) -> Pages:
        try:
            named = await listing
            if self._follows:
                real = await self._links.real(path)
                if real in above:
                    yield [Entry(key, 0, None, fault="not-a-file")]
                    return
                above |= {real}
        except Missing:  # it went away meanwhile
            return
        except Halting:
            raise
        except Refused:
            yield [Entry(key, 0, None, fault="unreadable")]
            return
        async for page in self._below(path, key, named, above):
            yield page

    def _still_to_come(self, base: bytes, named: Sequence[Named]) -> Sequence[Named]:
        after = self._after
        if not after:
            return named
        return [
            n
            for n in named
            if base + n.name > after or (n.name.endswith(b"/") and after.startswith(base + n.name))
        ]
