"""Folders of this machine. Every path is hostile: `root` opens it part by part.

A file is written under a hidden name in its own folder, flushed, renamed, and its folder flushed.
All work on the disk is done in threads, one hop for a small file.
"""

from __future__ import annotations

import asyncio
import bisect
import contextlib
import errno
import os
from collections.abc import AsyncIterator, Collection, Mapping, Sequence
from functools import partial
from typing import Any

from pinecart.core.entries import Entry
from pinecart.core.places import show
from pinecart.core.ports import Abilities, Level, Placed, Put, Reading, Stat, Store, Uploads
from pinecart.drivers.file_names import HiddenNames, parts_of, why_unsafe
from pinecart.drivers.folder.abilities import FolderAbilities
from pinecart.drivers.folder.kernel import KERNEL, Kernel
from pinecart.drivers.folder.opening import FileOpener
from pinecart.drivers.folder.own_files import OwnFiles
from pinecart.drivers.folder.putting import FilePutter
from pinecart.drivers.folder.removal import FileRemover
from pinecart.drivers.folder.root import FolderRoot, Pin, is_gone
from pinecart.drivers.folder.walking import Walk, names_again, some_pages
from pinecart.json_object import JsonObject


class FolderStore:
    """path: the root.   fsid: the file system's id when the store was registered; 0: not
    remembered.

    forbidden: (device, inode) of folders that are never entered, the state folder first of all.
    links: what becomes of symbolic links: "refuse" (listed), "skip", "follow" (inside the root),
    "keep" (as links). marker: name of a file in the root without which it is taken for another
    disk. read_back: whether every file is read from the disk after it is written; else its size is
    all the proof. run: tag for hidden names; files of this very run that an interrupted process
    left are cleared as they are listed.
    """

    def __init__(
        self,
        name: str,
        path: str,
        *,
        fsid: int = 0,
        forbidden: frozenset[tuple[int, int]] = frozenset(),
        run: str = "0",
        links: str = "refuse",
        marker: str = "",
        read_back: bool = True,
        kernel: Kernel = KERNEL,
    ) -> None:
        self.name = name
        self.most_at_once = 0
        self._root = root = FolderRoot(name, path, Pin(), fsid, forbidden, links, marker, kernel)
        self._hidden = HiddenNames(run)
        self._own = OwnFiles()
        self._abilities = abilities = FolderAbilities(root, self._hidden)
        self._opener = FileOpener(root)
        self._remover = FileRemover(root, abilities, self._hidden, self._own)
        self._putter = FilePutter(
            root, abilities, self._hidden, self._own, self._remover, read_back=read_back
        )

    @classmethod
    def from_spec(cls, spec: Mapping[str, Any]) -> FolderStore:
        """What isn't in the spec is as by default: links are refused, and what was written is read
        back before it gets its name.
        """
        forbidden = frozenset((d, i) for d, i in spec.get("forbidden", ()))
        links = spec.get("links") or "refuse"
        run = str(spec.get("run", 0))
        marker = spec.get("marker") or ""
        read_back = spec.get("read_back", "yes") != "no"
        store = cls(
            spec["name"],
            spec["path"],
            fsid=spec.get("fsid") or 0,
            forbidden=forbidden,
            run=run,
            links=links,
            marker=marker,
            read_back=read_back,
        )
        store.most_at_once = int(spec.get("most_at_once") or 0)
        return store

    async def close(self) -> None:
        self._opener.close()

    # --- what it is, and can do

    async def abilities(self, prefix: bytes) -> Abilities:
        """What was found out before, where that is known; else what can be seen without writing
        anything.
        """
        if self._abilities.are_known:
            return self._abilities.able(prefix, may_write=False)
        able: Abilities = await self._root.do(lambda: self._abilities.able(prefix, may_write=False))
        return able

    async def probe(self, prefix: bytes, journal: Uploads | None = None) -> Abilities:
        able: Abilities = await self._root.do(lambda: self._abilities.able(prefix, may_write=True))
        return able

    def learned(self) -> JsonObject:
        return {}

    def unfit(self, key: bytes) -> str:
        return why_unsafe(key.removesuffix(b"/"), self.name)

    def open_to_append(self, key: bytes) -> int:
        return self._root.open_to_append(key)

    def waits_for(self) -> str:
        return ""

    @property
    def rests_s(self) -> float:
        return 0.0

    def rest(self, seconds: float) -> None:
        """A disk asks for no pause."""

    def home(self, prefix: bytes) -> bytes:
        return b""

    def identity(self, prefix: bytes) -> str:
        return f"folder:{self._root.fsid}:{self._root.path}/{show(prefix)}"

    async def check_place(self, prefix: bytes) -> None:
        """The folder is there, and is the same as ever. Raises PlaceLost."""

        def look() -> None:
            with self._root.folder(()) as fd:
                self._root.must_be_the_same(fd)

        await self._root.do(look)

    # --- looking

    async def list(
        self, prefix: bytes, *, after: bytes = b"", folders: str = ""
    ) -> AsyncIterator[Sequence[Entry]]:
        found = Walk(self._root, self._hidden.pattern, folders=folders, after=after).pages(
            parts_of(prefix)
        )
        try:
            while pages := await self._root.do(partial(some_pages, found)):
                for page in pages:
                    yield page
        finally:
            await asyncio.to_thread(found.close)

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Level:
        """A page of one folder in the order of bytes; `more` is the name to go on after, empty
        where none are left.
        """
        root = self._root

        def look() -> Level:
            """The folder's names are read whole and put in order, since the system gives them in an
            order of its own.
            """
            follow = root.links == "follow"
            walk = Walk(root, self._hidden.pattern)
            parts = parts_of(prefix)
            with root.folder(parts) as fd:
                names = names_again(root.kernel, fd, follow=follow)
                start = bisect.bisect_right(names, after)
                end = start + limit
                page = names[start:end]
                folders = []
                entries = []
                for name in page:
                    if name.endswith(b"/"):
                        folders.append(name)
                        continue
                    entry = walk.listed(fd, name, name)
                    if entry:
                        entries.append(entry)
            more = page[-1] if len(names) > end else b""
            return Level(folders, entries, more)

        return await root.do(look)

    async def stat(self, key: bytes, version: str = "") -> Stat:
        """A file below what is a file itself is definitely not there."""

        def look() -> Entry:
            try:
                return self._root.entry(key)
            except OSError as exc:
                if exc.errno == errno.ENOENT:
                    raise
                folder, _, _ = key.rpartition(b"/")
                if is_gone(exc, self._root, parts_of(folder)):
                    words = os.strerror(errno.ENOENT)
                    raise FileNotFoundError(errno.ENOENT, words, key) from exc
                raise

        entry = await self._root.do(look)
        return Stat(entry)

    def open(
        self, key: bytes, expected: Entry | None = None, *, version: str = ""
    ) -> contextlib.AbstractAsyncContextManager[Reading]:
        return self._opener.open(key, expected)

    async def is_absent(self, key: bytes) -> bool:
        return await self._remover.is_absent(key)

    # --- writing

    async def put(self, put: Put) -> Placed:
        return await self._putter.put(put)

    def wrote(self, entry: Entry) -> None:
        self._own.add(entry.inode)

    def copies_from(self, source: Store) -> bool:
        return isinstance(source, FolderStore)

    async def copy(
        self, put: Put, source: Store, source_key: bytes, entry: Entry, version: str = ""
    ) -> Placed | None:
        """Between two folders of this machine the kernel copies; a link goes through us."""
        if not isinstance(source, FolderStore) or entry.is_link:
            return None
        return await self._putter.copy(put, source._root, source_key, entry)

    # --- removing

    async def move(self, key: bytes, to: bytes, expected: Entry) -> Entry:
        return await self._remover.move(key, to, expected)

    async def remove(self, key: bytes, expected: Entry) -> bool:
        return await self._remover.remove(key, expected)

    async def tidy(self, prefix: bytes, key: bytes) -> None:
        await self._remover.tidy(prefix, key)

    async def sweep(self, prefixes: Collection[bytes]) -> None:
        await self._remover.sweep(prefixes)
