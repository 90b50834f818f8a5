"""Files of a folder, opened for reading: each pinned to what it was when it was opened."""

from __future__ import annotations

import os
import stat as st
from collections.abc import AsyncIterator
from functools import partial

from pinecart.core.entries import Entry, same
from pinecart.core.errors import Changed
from pinecart.core.keeping import Extra, Keep
from pinecart.core.ports import HELD_BYTES, WriteStamp
from pinecart.drivers.folder.root import FolderRoot
from pinecart.drivers.folder.writing import entry_of


class File:
    """A file opened for reading, pinned to what fstat said when it was opened."""

    def __init__(self, root: FolderRoot, key: bytes, fd: int, entry: Entry) -> None:
        """fd: of the open file, which is whoever's opened it.   entry: what is expected there, and
        compared with once it is read.
        """
        self._root = root
        self._key = key
        self._fd = fd
        self.entry = entry
        self.card: WriteStamp | None = None
        self.content_type = ""
        self.metadata = dict[str, str]()
        self.headers = dict[str, str]()

    async def look(self) -> None: ...
    async def whole(self) -> bytes:
        def read() -> bytes:
            if self.entry.is_folder:
                return b""
            read_on = partial(self._root.kernel.read, self._fd, HELD_BYTES)
            data = b"".join(iter(read_on, b""))
            self._compare()
            return data

        found: bytes = await self._root.do(read)
        return found

    async def piece(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        """Short only if the file has become shorter; then it has changed."""
        read = partial(os.pread, self._fd, size, start)
        found: bytes = await self._root.do(read)
        if len(found) != size:
            named = self._root.named(self._key)
            raise Changed(f"{named} changed while it was read.")
        return found

    async def chunks(self) -> AsyncIterator[bytes]:
        if self.entry.is_folder:
            return
        at = 0
        while True:
            read = partial(os.pread, self._fd, HELD_BYTES, at)
            chunk = await self._root.do(read)
            if not chunk:
                return
            at += len(chunk)
            yield chunk

    async def besides(self, keep: Keep) -> Extra:
        def look() -> Extra:
            mode = st.S_IMODE(os.fstat(self._fd).st_mode) & 0o777 if keep.permissions else None
            if keep.attributes:
                names = [n for n in os.listxattr(self._fd) if n.startswith("user.")]
            else:
                names = []
            return Extra(mode, {n: os.getxattr(self._fd, n) for n in names})

        found: Extra = await self._root.do(look)
        return found

    async def verify(self, crc: str = "") -> None:
        await self._root.do(self._compare)

    def _compare(self) -> None:
        """After the last byte: a file that somebody wrote to meanwhile is neither the old one nor
        the new one. Raises Changed.
        """
        if not self.entry.is_folder and not same(
            entry_of(self._key, os.fstat(self._fd)), self.entry
        ):
            raise Changed(f"{self._root.named(self._key)} changed while it was read.")


class _Whole:
    """What was read whole when it was opened."""

    def __init__(self, root: FolderRoot, key: bytes, entry: Entry, body: bytes) -> None:
        """A small file that was read in one go, and is open no longer; its metadata are read from
        it anew where a job keeps them.
        """
        self._root = root
        self._key = key
        self.entry = entry
        self._body = body
        self.card: WriteStamp | None = None
        self.content_type = ""
        self.metadata = dict[str, str]()
        self.headers = dict[str, str]()

    async def look(self) -> None: ...
    async def whole(self) -> bytes:
        return self._body

    async def piece(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        return self._body[start : start + size]

    async def chunks(self) -> AsyncIterator[bytes]:
        yield self._body


class HeldFile(_Whole):
    """A small file that was the same before and after it was read."""

    async def besides(self, keep: Keep) -> Extra:
        """It is opened once more for them, which only those jobs pay for that keep permissions or
        attributes.
        """
        if not (keep.permissions or keep.attributes):
            return Extra()
        opened = self._root.file(self._key)
        fd = await self._root.do(opened.__enter__)
        try:
            return await File(self._root, self._key, fd, self.entry).besides(keep)
        finally:
            opened.__exit__(None, None, None)

    async def verify(self, crc: str = "") -> None:
        if not same(await self._root.do(partial(self._root.entry, self._key)), self.entry):
            raise Changed(f"{self._root.named(self._key)} changed while it was read.")


class Link(_Whole):
    """A link opened as what it is: its bytes are its text."""

    async def besides(self, keep: Keep) -> Extra:
        return Extra(link=True)

    async def verify(self, crc: str = "") -> None:
        now = await self._root.do(lambda: self._root.link(self._key))
        if now is None or now[1] != self._body:
            raise Changed(f"{self._root.named(self._key)} changed while it was read.")
