"""A store over the files and folders of another machine, whatever the protocol."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Collection, Mapping, Sequence
from contextlib import AbstractAsyncContextManager
from functools import partial
from typing import Any

from pinecart.core.entries import Entry
from pinecart.core.errors import PlaceLost
from pinecart.core.places import show
from pinecart.core.ports import Abilities, Level, Placed, Put, Reading, Stat, Uploads
from pinecart.core.retry import Retry
from pinecart.drivers.busy_retries import BusyRetries
from pinecart.drivers.file_names import parts_of, why_unsafe
from pinecart.drivers.remote_tree.facts import TreeFacts, entry_of
from pinecart.drivers.remote_tree.folders import TreeFolders
from pinecart.drivers.remote_tree.links import TreeLinks
from pinecart.drivers.remote_tree.names import TreeNames
from pinecart.drivers.remote_tree.probing import TreeProber
from pinecart.drivers.remote_tree.reading import TreeReader
from pinecart.drivers.remote_tree.remote_files import FileKind, RemoteFiles
from pinecart.drivers.remote_tree.removal import TreeRemover
from pinecart.drivers.remote_tree.renaming import CertainRenames
from pinecart.drivers.remote_tree.tree import Tree
from pinecart.drivers.remote_tree.walking import TreeWalk
from pinecart.drivers.remote_tree.writing import TreeWriter
from pinecart.json_object import JsonObject


class RemoteTreeStore:
    """files: how the protocol reaches them.   spec: the store's fields, and what belongs to the
    service.
    """

    def __init__(self, files: RemoteFiles, spec: Mapping[str, Any]) -> None:
        self.name = files.name
        self._files = files
        self.most_at_once = int(spec.get("most_at_once") or 0)
        service = spec.get("service", "")
        run = spec.get("run", 0)
        retry = Retry(**spec.get("retry", {}))
        self._retries = retries = BusyRetries(retry)
        self._names = names = TreeNames(str(service), str(run))
        self._links = links = TreeLinks(files, spec.get("links") or "refuse")
        self._folders = folders = TreeFolders(files, links, retries)
        self._reader = reader = TreeReader(files, links, folders, retries)
        self._renames = renames = CertainRenames(files, names, retries)
        tree = Tree(files, folders, links, reader, names, renames, retries)
        reads_back = spec.get("read_back", "yes") != "no"
        self._writer = TreeWriter(tree, reads_back=reads_back)
        self._remover = TreeRemover(tree)
        self._prober = TreeProber(files, retries)
        self._probing = asyncio.Lock()
        known = spec.get("abilities") or {}
        self._take_in(TreeFacts.read(known))

    def _take_in(self, facts: TreeFacts) -> None:
        self._writer.facts = facts
        self._renames.guards = facts.guards
        self._renames.conditions = facts.conditions

    async def close(self) -> None:
        await self._writer.clear_left()
        await self._files.close()

    # --- what it is, and can do

    async def abilities(self, prefix: bytes) -> Abilities:
        return self._writer.facts.able()

    async def probe(self, prefix: bytes, journal: Uploads | None = None) -> Abilities:
        """Once for a store: what a server can do is the same for all its folders. Those who come
        meanwhile wait for the answer.
        """
        async with self._probing:
            if not self._writer.facts.probed:
                path = b"/".join(parts_of(prefix))
                facts = await self._prober.find_out(path)
                self._take_in(facts)
        return self._writer.facts.able()

    def learned(self) -> JsonObject:
        return self._writer.facts.as_json()

    def unfit(self, key: bytes) -> str:
        return why_unsafe(key.removesuffix(b"/"), self.name)

    def waits_for(self) -> str:
        return self._retries.waits_for(self.name)

    @property
    def requests_sent(self) -> int:
        return self._files.requests

    @property
    def rests_s(self) -> float:
        return 0.0

    def rest(self, seconds: float) -> None:
        """These protocols ask for no pause."""

    def home(self, prefix: bytes) -> bytes:
        return b""

    def identity(self, prefix: bytes) -> str:
        return f"{self._files.place()}/{show(prefix)}"

    async def check_place(self, prefix: bytes) -> None:
        """Its root is there and is a folder. Raises PlaceLost: an empty listing of a root that went
        away would be told as all files gone.
        """
        look = partial(self._files.look, b"")
        found = await self._retries.safely(look)
        if found.kind is not FileKind.FOLDER:
            message = f"Store {self.name}: its root is no folder any more. Look at its address."
            raise PlaceLost(message, code="store.not-the-same")

    # --- looking

    async def list(
        self, prefix: bytes, *, after: bytes = b"", folders: str = ""
    ) -> AsyncIterator[Sequence[Entry]]:
        """In the order of bytes, folder by folder. A place whose folder isn't there yet is empty,
        which entering it finds out.
        """
        walk = self._walk(folders=folders, after=after)
        path = b"/".join(parts_of(prefix))
        await self._folders.enter(path)
        async for page in walk.pages(path):
            yield page

    def _walk(self, *, folders: str = "", after: bytes = b"") -> TreeWalk:
        return TreeWalk(
            self._files, self._links, self._retries, self._names, folders=folders, after=after
        )

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Level:
        path = b"/".join(parts_of(prefix))
        await self._folders.enter(path)
        listed = await self._walk().names(path)
        following = [named for named in listed if named.name > after]
        page = following[:limit]
        folders = list[bytes]()
        entries = list[Entry]()
        for name, found in page:
            if found.kind is FileKind.FOLDER:
                folders.append(name)
            else:
                entries.append(entry_of(name, found, links=self._links.rule))
        has_more = len(following) > limit
        return Level(folders, entries, page[-1].name if has_more else b"")

    async def stat(self, key: bytes, version: str = "") -> Stat:
        return Stat(await self._reader.look(key))

    def open(
        self, key: bytes, expected: Entry | None = None, *, version: str = ""
    ) -> AbstractAsyncContextManager[Reading]:
        return self._reader.open(key, expected)

    async def is_absent(self, key: bytes) -> bool:
        return await self._remover.is_absent(key)

    # --- writing and removing

    async def put(self, put: Put) -> Placed:
        return await self._retries.once(lambda: self._writer.put(put))

    async def clear_uploads(self, key: bytes, since: str) -> int:
        return await self._writer.clear_uploads(key)

    def wrote(self, entry: Entry) -> None:
        """Nothing here hangs on which process wrote it."""

    async def move(self, key: bytes, to: bytes, expected: Entry) -> Entry:
        return await self._remover.move(key, to, expected)

    async def remove(self, key: bytes, expected: Entry) -> bool:
        return await self._remover.remove(key, expected)

    async def tidy(self, prefix: bytes, key: bytes) -> None:
        await self._remover.tidy(prefix, key)

    async def sweep(self, prefixes: Collection[bytes]) -> None:
        await self._remover.sweep(prefixes)
