"""Files over WebHDFS: one call, one request to the name node, or one to it and one to a data node.

What can go wrong here, and is met: a name node that sends us to a host that nobody named; one that
stands by, starts, or asks to go slower; a token that has run out; a file that somebody is writing;
a rename that says no and not why; a listing in parts; lengths that are not true; a line cut at any
step.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import asynccontextmanager
from typing import Any

from pinecart.core.errors import Busy, Changed, Missing, Refused, Taken
from pinecart.core.places import show
from pinecart.core.ports import OwnSum
from pinecart.drivers.http_message import Pieces
from pinecart.drivers.paging import PageTrail
from pinecart.drivers.remote_tree.remote_files import (
    FileKind,
    FileLook,
    Given,
    How,
    Named,
    Written,
)
from pinecart.drivers.remote_tree.renaming import is_there, replaced_in_steps
from pinecart.drivers.webhdfs.client import HdfsClient
from pinecart.drivers.webhdfs.wire import MS_NS, look_of, name_of, sum_of


class HdfsFiles:
    """remote_tree.RemoteFiles. Links are neither followed nor taken."""

    by_offset = False
    sets_times = True
    removes_below = False
    repeats = True
    by_address = False
    pieces = 4

    def __init__(self, client: HdfsClient) -> None:
        self.name = client.name
        self.client = client
        self._lists_parts = True

    @property
    def requests(self) -> int:
        return self.client.sent

    def kept_time(self, modified_ns: int) -> int | None:
        if modified_ns >= 0:
            return modified_ns // MS_NS * MS_NS
        return None

    def place(self) -> str:
        origin = self.client.name_node.origin
        return f"webhdfs:{origin}{show(self.client.root)}"

    async def close(self) -> None:
        await self.client.close()

    # --- looking

    async def look(self, path: bytes) -> FileLook:
        told = await self.client.told("GET", path, "GETFILESTATUS")
        return self._read(look_of, told.get("FileStatus"))

    async def own_sum(self, path: bytes) -> OwnSum | None:
        try:
            told = await self.client.sum_told(path)
        except Refused as exc:  # not every file system makes them
            if exc.code != "store.unsupported":
                raise
            return None
        found: OwnSum | None = self._read(sum_of, told.get("FileChecksum"))
        return found

    def _read(self, how: Callable[[Any], Any], told: Any) -> Any:
        """What the name node told, read as it should be. Raises Busy for what isn't: something on
        the way may have answered instead.
        """
        try:
            return how(told)
        except (KeyError, ValueError, TypeError, AttributeError) as exc:
            message = f"{self.name} tells of a file what can't be read ({exc})."
            raise Busy(message, code="store.garbled") from exc

    async def names(self, path: bytes) -> Sequence[Named]:
        """In parts, where the server has the operation; a server of an older release hasn't, and
        tells all at once.
        """
        if self._lists_parts:
            try:
                return await self._names_in_parts(path)
            except Refused as exc:
                if exc.code != "store.unsupported" and exc.facts.get("status") != 400:
                    raise
                self._lists_parts = False
        told = await self.client.told("GET", path, "LISTSTATUS")
        return self._named(told, path)

    async def _names_in_parts(self, path: bytes) -> list[Named]:
        trail = PageTrail(f"The listing of {self.client.named(path)}")
        found: list[Named] = []
        more: dict[str, str] = {}
        while True:
            told = await self.client.told("GET", path, "LISTSTATUS_BATCH", **more)
            listing = told.get("DirectoryListing") or {}
            some = self._named(listing.get("partialListing"), path)
            found += some
            if not listing.get("remainingEntries"):
                return found
            if not some:
                message = f"{self.name} lists no more of a folder."
                raise Busy(message, code="store.garbled")
            last = trail.follow(some[-1].name)
            more["startAfter"] = last.decode("utf-8", "surrogateescape")

    def _named(self, told: Any, path: bytes) -> list[Named]:
        rows = self._read(lambda t: t["FileStatuses"]["FileStatus"], told)
        found = []
        for row in rows:
            named = self._read(lambda r: Named(name_of(r), look_of(r)), row)
            found.append(named)
        if len(found) == 1 and not found[0].name:
            where = self.client.named(path)
            raise Missing(f"{where} is a file: nothing lies below it.")
        return found

    # --- files

    @asynccontextmanager
    async def open(self, path: bytes, how: How) -> AsyncIterator[OpenedHdfsFile]:
        """Only to be read."""
        if how is not How.READ:
            raise Refused(f"{self.client.named(path)}: WebHDFS writes no parts of a file.")
        yield OpenedHdfsFile(self, path)

    async def read_whole(self, path: bytes, size: int) -> tuple[FileLook, bytes]:
        """It has no ETags: what it is is looked at before, and by the reader after."""
        found = await self.look(path)
        if found.kind is not FileKind.FILE or not found.size:
            return found, b""
        return found, await self._content(path, size)

    async def write_whole(
        self, path: bytes, body: bytes, given: Given, *, read_back: bool
    ) -> Written:
        """A new file, then its time and permissions by name. Whether it is read back is the store's
        setting.
        """
        await self._created(path, body, given)
        if not read_back:
            return Written()
        if not body:  # of which no part can be asked for
            return Written((await self.read_whole(path, 0))[1])
        return Written(await self._content(path, len(body)))

    async def _content(self, path: bytes, size: int) -> bytes:
        """Of a file that is not empty; one byte more where it has more."""
        return bytes((await self.client.from_data(path, 0, size + 1)).body)

    async def write_stream(
        self, path: bytes, size: int, chunks: Callable[[], AsyncIterator[bytes]], given: Given
    ) -> None:
        await self._created(path, Pieces(size, chunks), given)

    async def _created(self, path: bytes, body: bytes | Pieces, given: Given) -> None:
        """Made where no file is. The data node may be asked again by something on the way, and then
        finds its own file there.
        """
        try:
            await self.client.to_data(path, body)
        except Taken as exc:  # nobody else has this name: it was sent twice
            raise Busy(f"{exc.message} It is tried again.", code="store.cut") from exc
        await self.set(path, given)

    async def set(self, path: bytes, given: Given) -> None:
        client = self.client
        mode = given.mode
        modified_ns = given.modified_ns
        if mode is not None:
            octal = f"{mode:o}"
            await client.told("PUT", path, "SETPERMISSION", permission=octal)
        if modified_ns is not None and self.kept_time(modified_ns) is not None:
            ms = modified_ns // MS_NS
            await client.told("PUT", path, "SETTIMES", modificationtime=ms, accesstime=-1)

    # --- names

    async def rename(self, old: bytes, new: bytes) -> None:
        """It says yes or no; why not is looked at."""
        client = self.client
        whole = client.root + b"/" + new
        there = whole.decode("utf-8", "surrogateescape")
        told = await client.told("PUT", old, "RENAME", destination=there)
        if told.get("boolean") is True:
            return
        if not await is_there(self, old):
            raise Missing(f"{client.named(old)}: there is no such file or folder.")
        named = client.named(new)
        if await is_there(self, new):
            raise Taken(f"{named}: something is there.")
        raise Missing(f"{named}: the folder that it lies in is not there.")

    async def replace(
        self, old: bytes, new: bytes, away: bytes, seen: FileLook | None = None
    ) -> None:
        await replaced_in_steps(self, old, new, away)

    async def remove(self, path: bytes, seen: FileLook | None = None) -> None:
        await self._deleted(path)

    async def _deleted(self, path: bytes) -> None:
        told = await self.client.told("DELETE", path, "DELETE", recursive="false")
        if told.get("boolean") is not True:
            raise Missing(f"{self.client.named(path)}: there is no such file or folder.")

    async def make_folder(self, path: bytes) -> None:
        """It makes those above as well, which were looked at."""
        named = self.client.named(path)
        if await is_there(self, path):
            raise Taken(f"{named}: something is there.")
        told = await self.client.told("PUT", path, "MKDIRS")
        if told.get("boolean") is not True:
            raise Refused(f"{named}: the folder can't be made.")

    async def remove_folder(self, path: bytes) -> None:
        await self._deleted(path)


class OpenedHdfsFile:
    """Read in parts, each of which a data node gives."""

    def __init__(self, files: HdfsFiles, path: bytes) -> None:
        self._files = files
        self._path = path
        self._size: int | None = None

    async def look(self) -> FileLook:
        found = await self._files.look(self._path)
        self._size = found.size
        return found

    async def read(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        if self._size is None:
            await self.look()
        assert self._size is not None
        wanted = min(size, self._size - start)
        if wanted <= 0:
            return b""
        answer = await self._files.client.from_data(self._path, start, wanted, into)
        if len(answer.body) != wanted:
            named = self._files.client.named(self._path)
            raise Changed(f"{named} changed while it was read, or its length is not true.")
        return answer.body

    async def write(self, start: int, data: bytes) -> None:
        raise NotImplementedError

    async def give(self, given: Given) -> None:
        raise NotImplementedError
