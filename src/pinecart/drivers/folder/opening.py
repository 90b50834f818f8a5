"""How files of a folder are opened for reading: small ones at once, where they lie in memory."""

from __future__ import annotations

import contextlib
import os
import stat as st
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from functools import partial

from pinecart.core.entries import Entry
from pinecart.core.errors import Unsafe
from pinecart.core.ports import Reading
from pinecart.drivers.file_names import folder_entry, must_be_safe, parts_of
from pinecart.drivers.folder.reading import File, HeldFile, Link
from pinecart.drivers.folder.root import FILE, FolderRoot
from pinecart.drivers.folder.writing import entry_of, is_as_it_was

SMALL = 64 << 10  # up to here a file is read at once, where the kernel has it in memory
SLOW_S = 0.002  # for one file read on the event loop
# Threads that wait for each other make some as slow on any disk, but not so many: each slow one
# counts four, each quick one takes one back.
MOSTLY = 100


class FileOpener:
    """Keeps the folder of the last small file open."""

    def __init__(self, root: FolderRoot) -> None:
        """The folder that was read from last stays open: most files of a run lie in the one
        before's.
        """
        self._root = root
        self._kernel = root.kernel
        self._parent: tuple[bytes, int] | None = None
        self._slowness = 0  # of such readings lately
        self._slow_left = 0  # so many more files are read by threads

    def open(
        self, key: bytes, expected: Entry | None = None, *, version: str = ""
    ) -> contextlib.AbstractAsyncContextManager[Reading]:
        """A small file is read at once, without a turn of the loop, as long as the disk is quick;
        all others are opened by a thread.
        """
        small = expected is not None and expected.size <= SMALL
        if expected is not None and (expected.is_link or key.endswith(b"/")):
            small = False
        if small:
            held = self._read_at_once(key)
            if held is not None:
                return contextlib.nullcontext(held)
        return self._opened(key, expected, small=small)

    @asynccontextmanager
    async def _opened(
        self, key: bytes, expected: Entry | None, *, small: bool
    ) -> AsyncIterator[Reading]:
        """In a thread, whatever it is: a small file, a link, a folder's own entry, a large file."""
        if small and (held := await self._root.do(partial(self._in_one_hop, key))) is not None:
            yield held
            return
        if expected is not None and expected.is_link:
            link = await self._root.do(lambda: self._root.link(key))
        else:
            link = None
        if link:
            yield Link(self._root, key, *link)
            return
        opened = self._root.folder(parts_of(key)) if key.endswith(b"/") else self._root.file(key)
        fd = await self._root.do(opened.__enter__)
        try:
            found = os.fstat(fd)
            yield File(
                self._root,
                key,
                fd,
                folder_entry(key) if key.endswith(b"/") else entry_of(key, found),
            )
        finally:
            opened.__exit__(None, None, None)

    def _read_at_once(self, key: bytes) -> HeldFile | None:
        """A small file that the kernel has in memory is read here and now: a thread would cost more
        than the reading.

        None: it isn't, or the disk was slow lately; then a thread does it. Links are never followed
        this way.
        """
        if self._root.links == "follow" or self._slow_left:
            self._slow_left = max(self._slow_left - 1, 0)
            return None
        began = self._kernel.now()
        fd = -1
        try:
            must_be_safe(key, self._root.name)
            folder, _, name = key.rpartition(b"/")
            fd = os.open(name, FILE, dir_fd=self._parent_of(folder))
            before = os.fstat(fd)
            if not st.S_ISREG(before.st_mode) or before.st_size > SMALL:
                return None
            room = bytearray(before.st_size)
            got = self._kernel.read_at_hand(fd, room)
            if got != before.st_size or not is_as_it_was(before, os.fstat(fd)):
                return None
            return HeldFile(self._root, key, entry_of(key, before), bytes(room))
        except (OSError, Unsafe):
            # Not in memory, or an error: the usual way finds out which, and tells it.
            return None
        finally:
            if fd >= 0:
                os.close(fd)
            if self._kernel.now() - began > SLOW_S:
                self._slowness += 4
            else:
                self._slowness = max(self._slowness - 1, 0)
            if self._slowness > MOSTLY:
                self._slow_left = 1000
                self._slowness = 0

    def _in_one_hop(self, key: bytes) -> HeldFile | None:
        """A small file read from the disk.

        None: it is none, or is being changed; the usual way finds out, and tells it.
        """
        with self._root.file(key) as fd:
            before = os.fstat(fd)
            if before.st_size > SMALL:
                return None
            body = b"".join(iter(lambda: self._kernel.read(fd, SMALL + 1), b""))
            if len(body) != before.st_size or not is_as_it_was(before, os.fstat(fd)):
                return None
            return HeldFile(self._root, key, entry_of(key, before), body)

    def _parent_of(self, folder: bytes) -> int:
        """A descriptor of the folder in which the last file was as well, or of another one; at most
        this one is kept open.
        """
        if self._parent is None or self._parent[0] != folder:
            self.close()
            parts = parts_of(folder)
            with self._root.folder(parts) as fd:
                own = os.dup(fd)
            self._parent = (folder, own)
        return self._parent[1]

    def close(self) -> None:
        if self._parent is not None:
            os.close(self._parent[1])
            self._parent = None
