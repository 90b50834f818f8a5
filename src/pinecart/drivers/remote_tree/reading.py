"""Files of a remote tree, opened for reading: each pinned to what it was when it was opened.

A line that is cut is taken up again where it was.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from functools import partial
from typing import TypeVar

from pinecart.core.entries import Entry, same
from pinecart.core.errors import Busy, Changed, Taken, Unsafe
from pinecart.core.keeping import Extra, Keep
from pinecart.core.places import show
from pinecart.core.ports import HELD_BYTES, Reading, WriteStamp
from pinecart.drivers.busy_retries import BusyRetries
from pinecart.drivers.file_names import folder_entry, must_be_safe
from pinecart.drivers.remote_tree.facts import entry_of
from pinecart.drivers.remote_tree.folders import TreeFolders
from pinecart.drivers.remote_tree.links import TreeLinks
from pinecart.drivers.remote_tree.remote_files import (
    MARKS,
    FileKind,
    FileLook,
    How,
    RemoteFile,
    RemoteFiles,
)

T = TypeVar("T")


class KeptOpen:
    """A file that is opened again where its line was cut."""

    def __init__(self, files: RemoteFiles, path: bytes, how: How, retries: BusyRetries) -> None:
        """how: the file is opened with the first that is asked of it, and after a cut line anew, by
        then as one that is there.
        """
        self._files = files
        self._path = path
        self._how = how
        self._retries = retries
        self._stack = contextlib.AsyncExitStack()
        self._file: RemoteFile | None = None
        self._opening = asyncio.Lock()

    async def do(self, work: Callable[[RemoteFile], Awaitable[T]]) -> T:
        """Something that may be done twice."""

        async def once() -> T:
            async with self._opening:
                file = self._file or await self._open()
            try:
                return await work(file)
            except Busy:
                if self._file is file:
                    await self.close()
                raise

        return await self._retries.safely(once)

    async def read(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        return await self.do(lambda file: file.read(start, size, into))

    async def _open(self) -> RemoteFile:
        """It stays open until all that was opened here is closed together."""
        how = self._how
        if how is How.MAKE:  # also where the answer is lost: then it may have been made
            self._how = How.AGAIN
        file = await self._stack.enter_async_context(self._files.open(self._path, how))
        self._file = file
        return file

    async def close(self) -> None:
        self._file = None
        await self._stack.aclose()


class TreeReader:
    """Opens what is a regular file, and links by their rule."""

    def __init__(
        self, files: RemoteFiles, links: TreeLinks, folders: TreeFolders, retries: BusyRetries
    ) -> None:
        self._files = files
        self._links = links
        self._folders = folders
        self._retries = retries

    async def look(self, key: bytes) -> Entry:
        """What lies there now. Raises Missing, Unsafe."""
        is_folder = key.endswith(b"/")
        path = key.rstrip(b"/")
        must_be_safe(path, self._files.name)
        await self._folders.enter(path.rpartition(b"/")[0])
        found = await self.seen(path)
        if is_folder and found.kind is FileKind.FOLDER:
            return folder_entry(key)
        entry = entry_of(key, found, links=self._links.rule)
        if entry.fault:
            raise Unsafe(f"{self.named(key)} is not a regular file.", code="not-a-file")
        return entry

    async def seen(self, path: bytes) -> FileLook:
        found = await self._retries.safely(lambda: self._files.look(path))
        if found.kind is FileKind.LINK and self._links.rule == "follow":
            return await self._links.followed(path)
        return found

    def named(self, key: bytes) -> str:
        return f"pine://{self._files.name}/{show(key)}"

    def differs(self, key: bytes) -> str:
        """In words, where what was read back is something else."""
        return f"{self.named(key)}: what was written does not read back the same."

    @asynccontextmanager
    async def open(self, key: bytes, expected: Entry | None) -> AsyncIterator[Reading]:
        if expected is not None:
            entry = expected._replace(key=key)
        else:
            entry = await self.look(key)
        if entry.is_place or key.endswith(b"/"):
            yield HeldTreeFile(self, folder_entry(key), b"", None)
            return
        must_be_safe(key, self._files.name)
        await self._folders.enter(key.rpartition(b"/")[0])
        if entry.is_link:
            text = await self._retries.safely(lambda: self._links.text(key))
            yield HeldTreeFile(self, entry, text, None)
            return
        if entry.size <= HELD_BYTES:
            yield await self._held(key, entry)
            return
        kept = KeptOpen(self._files, key, How.READ, self._retries)
        try:
            now = await kept.do(lambda file: file.look())
            opened = _as_listed(entry_of(key, now), entry)
            self.must_be_same(opened, entry)
            yield TreeFile(self, kept, opened, now)
        finally:
            await kept.close()

    async def _held(self, key: bytes, entry: Entry) -> Reading:
        """A small file is read at once, and was the same before and after."""
        read = partial(self._files.read_whole, key, entry.size)
        found, body = await self._retries.safely(read)
        opened = _as_listed(entry_of(key, found), entry)
        self.must_be_same(opened, entry)
        if len(body) != entry.size:
            named = self.named(key)
            raise Changed(f"{named} changed while it was read, or its size is not true.")
        return HeldTreeFile(self, opened, body, found)

    def must_be_same(self, now: Entry, entry: Entry) -> None:
        if now.fault or not same(now, entry):
            raise Changed(f"{self.named(entry.key)} changed while it was read.")

    async def must_be_as(self, key: bytes, expected: Entry) -> FileLook:
        """What lies there, if it is exactly what was planned for. Raises Missing where nothing
        does, and Taken where something else does.
        """
        found = await self.seen(key)
        now = entry_of(key, found, links=self._links.rule)
        if now.fault or not same(now, expected):
            raise Taken(
                f"{self.named(key)} is not as it was when this was planned. It was left alone."
            )
        return found

    async def must_still_be(self, key: bytes, expected: Entry) -> FileLook:
        """Of what is to be taken from here. Raises Changed, Missing."""
        folder = key.rpartition(b"/")[0]
        await self._folders.enter(folder)
        found = await self.seen(key)
        now = entry_of(key, found, links=self._links.rule)
        self.must_be_same(now, expected._replace(key=key))
        return found

    async def must_stay(self, entry: Entry) -> None:
        """The name still leads to what was opened, and is no link."""
        if not entry.is_place:
            await self.must_still_be(entry.key, entry)


def _as_listed(opened: Entry, entry: Entry) -> Entry:
    """Some servers tell an ETag with the content, and none where they list: what is remembered of a
    file is what is listed.
    """
    if entry.etag:
        return opened
    return opened._replace(etag="")


class _Opened:
    """What every opened file tells. A remote tree keeps no metadata."""

    card: WriteStamp | None = None
    content_type = ""

    def __init__(self, reader: TreeReader, entry: Entry, found: FileLook | None) -> None:
        """found: what the server told as it was looked at; None: it was only listed, and nothing
        but size and time are known of it.
        """
        self._reader = reader
        self.entry = entry
        self._found = found
        self.metadata = dict[str, str]()
        self.headers = dict[str, str]()

    async def look(self) -> None: ...
    async def besides(self, keep: Keep) -> Extra:
        """Marks such as `hidden` and the permissions, where the protocol has any and the job keeps
        them. A link has none of its own.
        """
        if self.entry.is_link:
            return Extra(link=True)
        if self._found is None:
            return Extra()
        marks = " ".join(self._found.marks).encode() if keep.attributes else b""
        mode = self._found.mode if keep.permissions else None
        return Extra(mode, {MARKS: marks} if marks else {})

    async def verify(self, crc: str = "") -> None:
        if self._found is None or not self._found.is_pinned:
            await self._reader.must_stay(self.entry)


class HeldTreeFile(_Opened):
    """What was read whole when it was opened: a small file, a folder, a link's text."""

    def __init__(
        self, reader: TreeReader, entry: Entry, body: bytes, found: FileLook | None
    ) -> None:
        super().__init__(reader, entry, found)
        self._body = body

    async def whole(self) -> bytes:
        await self.verify()
        return self._body

    async def piece(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        return self._body[start : start + size]

    async def chunks(self) -> AsyncIterator[bytes]:
        yield self._body


class TreeFile(_Opened):
    """A large file, read in pieces."""

    def __init__(self, reader: TreeReader, kept: KeptOpen, entry: Entry, found: FileLook) -> None:
        super().__init__(reader, entry, found)
        self._kept = kept

    async def whole(self) -> bytes:
        body = b"".join([chunk async for chunk in self.chunks()])
        await self.verify()
        return body

    async def piece(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        body = await self._kept.read(start, size, into)
        if len(body) != size:
            raise Changed(f"{self._reader.named(self.entry.key)} changed while it was read.")
        return body

    async def chunks(self) -> AsyncIterator[bytes]:
        for at in range(0, self.entry.size, HELD_BYTES):
            yield await self.piece(at, min(HELD_BYTES, self.entry.size - at))
