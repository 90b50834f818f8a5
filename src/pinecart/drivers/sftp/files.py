"""Files over SFTP version 3: one call, one or a few requests of the protocol.

What can go wrong here, and is met: a line that is cut or silent; a server that gives fewer lines or
handles than we would use; one without atomic replacing, flushing or times; `failure` as the only
reason; names in no known encoding (they are bytes throughout).
"""

from __future__ import annotations

import asyncio
import contextlib
import stat as st
from collections.abc import AsyncGenerator, AsyncIterator, Awaitable, Callable, Mapping, Sequence
from contextlib import asynccontextmanager
from functools import partial
from typing import Any, NoReturn, TypeVar, cast

import asyncssh
from asyncssh.sftp import FXF_CREAT, FXF_EXCL, FXF_READ, FXF_WRITE, SFTPAttrs

from pinecart.core.errors import Busy, Missing, Refused, StoreError, Taken
from pinecart.core.places import show
from pinecart.drivers.file_names import joined
from pinecart.drivers.remote_tree.remote_files import (
    FileKind,
    FileLook,
    Given,
    How,
    Named,
    Written,
)
from pinecart.drivers.remote_tree.renaming import is_there, replaced_in_steps
from pinecart.drivers.sftp.lines import SshLine, SshLines, SshServer

T = TypeVar("T")
AT_ONCE = 100  # names
PACKET = 32_768  # bytes: so many every server takes and gives at once (section 3)
BLOCK = 1 << 20  # bytes of a piece that are asked for by one call
HANDLES = 32  # opened at once, at most
SECOND_NS = 1_000_000_000
LAST_SECOND = (1 << 32) - 1  # times are 32 bits (section 5)
_HOW = {
    How.READ: FXF_READ,
    How.MAKE: FXF_READ | FXF_WRITE | FXF_CREAT | FXF_EXCL,
    How.AGAIN: FXF_READ | FXF_WRITE | FXF_CREAT,
}
_KINDS = {st.S_IFREG: FileKind.FILE, st.S_IFDIR: FileKind.FOLDER, st.S_IFLNK: FileKind.LINK}
_REASONS: tuple[tuple[type[asyncssh.SFTPError], type[StoreError], str, str], ...] = (
    (asyncssh.SFTPNoSuchFile, Missing, "store.missing", "There is no such file or folder."),
    (asyncssh.SFTPNoSuchPath, Missing, "store.missing", "There is no such file or folder."),
    (
        asyncssh.SFTPPermissionDenied,
        Refused,
        "store.refused",
        "The account may not do that. Grant it the right.",
    ),
    (asyncssh.SFTPWriteProtect, Refused, "store.refused", "It can only be read."),
    (asyncssh.SFTPNoSpaceOnFilesystem, Refused, "store.full", "The disk is full. Make room."),
    (asyncssh.SFTPQuotaExceeded, Refused, "store.full", "The quota is used up. Make room."),
    (asyncssh.SFTPFileAlreadyExists, Taken, "store.not-as-planned", "Something is there."),
    (asyncssh.SFTPOpUnsupported, Refused, "store.unsupported", "The server can't do that."),
    (asyncssh.SFTPConnectionLost, Busy, "store.cut", "The line was cut. It is tried again."),
    (asyncssh.SFTPNoConnection, Busy, "store.cut", "The line was cut. It is tried again."),
    (asyncssh.SFTPBadMessage, Busy, "store.cut", "A message was garbled. It is tried again."),
)


class SftpFiles:
    """remote_tree.RemoteFiles and RemoteLinks.

    root: on the server; relative: to where the account lands.
    """

    by_offset = True
    sets_times = True
    removes_below = False
    repeats = False
    by_address = False
    pieces = 4

    def __init__(self, server: SshServer, root: str) -> None:
        """root: below which all paths are; one that begins with no slash lies where the server puts
        the user who signs in.
        """
        self.name = server.name
        self.requests = 0
        self._lines = SshLines(server)
        self._root = root.rstrip("/").encode("utf-8", "surrogateescape") or (
            b"/" if root.startswith("/") else b""
        )
        self._handles = asyncio.Semaphore(HANDLES)
        self._opened = 0  # or on the way to be
        self._can_replace = self._can_flush = self._can_set = True

    @classmethod
    def from_spec(cls, spec: Mapping[str, Any]) -> SftpFiles:
        return cls(SshServer.from_spec(spec), spec.get("root") or "")

    def kept_time(self, modified_ns: int) -> int | None:
        second = modified_ns // SECOND_NS
        if 0 <= second <= LAST_SECOND:
            return second * SECOND_NS
        return None

    def place(self) -> str:
        """Two stores of one server are one place where their roots are; where a root isn't
        absolute, it depends on who signs in.
        """
        server = self._lines.server
        at = f"sftp:{server.host}:{server.port}"
        root = show(self._root)
        if root.startswith("/"):
            return f"{at}/{root}"
        return f"{at}:{server.user}/{root}"  # below where that one lands

    def renew(self, server: SshServer) -> None:
        self._lines.renew(server)

    async def close(self) -> None:
        await self._lines.close()

    # --- one call

    def _path(self, path: bytes) -> bytes:
        if not path:
            return self._root or b"."
        if self._root:
            return self._root.rstrip(b"/") + b"/" + path
        return path

    async def _ask(self, path: bytes, call: Callable[[asyncssh.SFTPClient], Awaitable[T]]) -> T:
        line = await self._lines.least_busy()
        return await self._on(line, path, lambda: call(line.sftp))

    async def _on(self, line: SshLine, path: bytes, call: Callable[[], Awaitable[T]]) -> T:
        """On this very line; the library's errors become ours."""
        self.requests += 1
        line.begin()
        try:
            return await call()
        except (asyncssh.Error, OSError, ValueError) as exc:
            self._tell(exc, path, line)
        finally:
            line.end()

    def _tell(self, exc: Exception, path: bytes, line: SshLine) -> NoReturn:
        named = f"pine://{self.name}/{show(path)}"
        if line.is_silent:
            message = f"{self.name} has not answered for {line.silence_s:.0f} s. It is tried again."
            raise Busy(message, code="store.silent") from exc
        for cause, kind, code, words in _REASONS:
            if isinstance(exc, cause):
                if kind is Busy:
                    line.drop()
                raise kind(f"{named}: {words}", code=code) from exc
        if isinstance(exc, asyncssh.SFTPError):
            reason = exc.reason or "no reason"
            message = f"{named}: the server refused, and gives as its reason: {reason}."
            raise Refused(message, code="store.failed") from exc
        line.drop()
        raise Busy(
            f"{named}: the line was cut ({exc}). It is tried again.", code="store.cut"
        ) from exc

    # --- looking

    async def look(self, path: bytes) -> FileLook:
        """A link is told as a link, not as what it leads to; only the root itself may be reached by
        one.
        """
        whole = self._path(path)
        if path:
            attrs = await self._ask(path, lambda sftp: sftp.lstat(whole))
        else:  # the root may be reached by a link
            attrs = await self._ask(path, lambda sftp: sftp.stat(whole))
        return _found(attrs)

    async def names(self, path: bytes) -> Sequence[Named]:
        line = await self._lines.least_busy()
        found: list[Named] = []
        untold: list[bytes] = []  # some servers tell no kinds in their listings
        listing = line.sftp.scandir(self._path(path))
        async with contextlib.aclosing(cast("AsyncGenerator[Any, None]", listing)):
            while some := await self._on(line, path, lambda: _some(listing)):
                found += [Named(name, _found(attrs)) for name, attrs in some]
                untold += [name for name, attrs in some if attrs.permissions is None]
        if not untold:
            return found
        told = dict(found)
        for name in untold:
            told[name] = await self.look(joined(path, name))
        return [Named(name, seen) for name, seen in told.items()]

    async def link_text(self, path: bytes) -> bytes:
        return await self._ask(path, lambda sftp: sftp.readlink(self._path(path)))

    async def look_through(self, path: bytes) -> FileLook:
        return _found(await self._ask(path, lambda sftp: sftp.stat(self._path(path))))

    async def real_path(self, path: bytes) -> bytes:
        return await self._ask(path, lambda sftp: sftp.realpath(self._path(path)))

    # --- files

    @asynccontextmanager
    async def open(self, path: bytes, how: How) -> AsyncIterator[OpenedSftpFile]:
        async with self._handles:
            file = await self._opened_as(path, how, in_blocks=True)
            try:
                yield file
            finally:
                await self._closed(file)

    async def _opened_as(self, path: bytes, how: How, *, in_blocks: bool) -> OpenedSftpFile:
        """in_blocks: what is read and written may be more than one packet holds."""
        line = await self._lines.least_busy()
        whole = self._path(path)
        flags = _HOW[how]
        size = -1 if in_blocks else 0
        before = self._opened
        self._opened += 1
        try:
            file = await self._on(
                line, path, lambda: line.sftp.open(whole, flags, encoding=None, block_size=size)
            )
        except BaseException as exc:
            self._opened -= 1
            if not isinstance(exc, Refused) or exc.code != "store.failed":
                raise
            others = max(before, self._opened)
            if how is How.MAKE and await is_there(self, path):
                raise Taken(f"pine://{self.name}/{show(path)}: something is there.") from exc
            if others:  # it may be that these are all it gives
                message = f"{self.name} opens no more files just now. It is tried again."
                raise Busy(message, code="store.busy") from exc
            raise
        return OpenedSftpFile(self, line, path, file)

    async def _closed(self, file: OpenedSftpFile) -> None:
        self._opened -= 1
        try:
            await file.close()
        except StoreError:
            """A handle that can't be closed goes with its line; what was written is looked at."""

    async def read_whole(self, path: bytes, size: int) -> tuple[FileLook, bytes]:
        """One byte more than it has is asked for, so that a file which has grown is seen to
        have.
        """
        async with self._handles:
            file = await self._opened_as(path, How.READ, in_blocks=size >= PACKET)
            try:
                return await file.look(), await file.read(0, size + 1)
            finally:
                await self._closed(file)

    async def write_whole(
        self, path: bytes, body: bytes, given: Given, *, read_back: bool
    ) -> Written:
        """A new file, its bytes, then its time and permissions, on one handle: nothing is looked
        for by name in between.
        """
        size = len(body)
        async with self._handles:
            file = await self._opened_as(path, How.MAKE, in_blocks=size >= PACKET)
            try:
                await file.write(0, body)
                await file.give(given)
                return Written(await file.read(0, size + 1) if read_back else None)
            finally:
                await self._closed(file)

    async def flush(self, line: SshLine, path: bytes, file: Any) -> None:
        """To the disk, where the server offers it (fsync@openssh.com)."""
        if not self._can_flush:
            return
        try:
            await self._on(line, path, file.fsync)
        except Refused as exc:
            if exc.code != "store.unsupported":
                raise
            self._can_flush = False

    async def set(self, path: bytes, given: Given) -> None:
        await self.set_by(
            given, lambda a: self._ask(path, lambda s: s.setstat(self._path(path), a))
        )

    async def set_by(self, given: Given, call: Callable[[SFTPAttrs], Awaitable[None]]) -> None:
        """Where the server sets nothing, that is seen by the look that follows."""
        attrs = _attrs(given)
        if attrs is None or not self._can_set:
            return
        try:
            await call(attrs)
        except Refused as exc:
            if exc.code != "store.unsupported":
                raise
            self._can_set = False

    # --- names

    async def rename(self, old: bytes, new: bytes) -> None:
        """Version 3 has an error for a new name that is there (section 6.5), but no code of its
        own: it is looked at.
        """
        before = self._path(old)
        after = self._path(new)
        try:
            await self._ask(new, lambda sftp: sftp.rename(before, after))
        except Refused as exc:
            if exc.code != "store.failed" or not await is_there(self, new):
                raise
            named = f"pine://{self.name}/{show(new)}"
            raise Taken(f"{named}: something is there that was not when this was planned.") from exc

    async def replace(
        self, old: bytes, new: bytes, away: bytes, seen: FileLook | None = None
    ) -> None:
        before = self._path(old)
        after = self._path(new)
        if self._can_replace:
            try:
                return await self._ask(new, lambda sftp: sftp.posix_rename(before, after))
            except Refused as exc:
                if exc.code != "store.unsupported":
                    raise
                self._can_replace = False
        await replaced_in_steps(self, old, new, away)

    async def remove(self, path: bytes, seen: FileLook | None = None) -> None:
        await self._ask(path, lambda sftp: sftp.remove(self._path(path)))

    async def make_folder(self, path: bytes) -> None:
        """The protocol has no word for `is there already`: where making it failed, it is looked at.
        Raises Taken.
        """
        whole = self._path(path)
        try:
            await self._ask(path, lambda sftp: sftp.mkdir(whole))
        except Refused as exc:
            was_there = exc.code == "store.failed" and await is_there(self, path)
            if not was_there:
                raise
            raise Taken(f"pine://{self.name}/{show(path)}: something is there.") from exc

    async def remove_folder(self, path: bytes) -> None:
        await self._ask(path, lambda sftp: sftp.rmdir(self._path(path)))

    async def make_link(self, path: bytes, text: bytes) -> None:
        await self._ask(path, lambda sftp: sftp.symlink(text, self._path(path)))


class OpenedSftpFile:
    """A handle on the line that it was opened on."""

    def __init__(self, files: SftpFiles, line: SshLine, path: bytes, file: Any) -> None:
        """line: on which its handle is known; on another one it must be opened anew."""
        self._files = files
        self._line = line
        self._path = path
        self._file = file

    async def _do(self, call: Callable[[], Awaitable[T]]) -> T:
        if not self._line.is_live:
            message = f"{self._files.name}: the line was cut. It is tried again."
            raise Busy(message, code="store.cut")
        return await self._files._on(self._line, self._path, call)

    async def close(self) -> None:
        if self._line.is_live:
            await self._do(self._file.close)

    async def look(self) -> FileLook:
        return _found(await self._do(self._file.stat))

    async def read(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        read = self._file.read
        if size <= PACKET:
            whole: bytes = await self._do(partial(read, size, start))
            return whole
        room = memoryview(bytearray(size) if into is None else into)
        done = 0
        while done < size:
            wanted = min(BLOCK, size - done)
            ask = partial(read, wanted, start + done)
            block: bytes = await self._do(ask)
            room[done : done + len(block)] = block
            done += len(block)
            if len(block) < wanted:
                break
        found = room[:done]
        if into is None:
            return bytes(found)
        return cast("bytes", found)

    async def write(self, start: int, data: bytes) -> None:
        write = self._file.write
        if len(data) <= BLOCK:
            await self._do(partial(write, data, start))
            return
        view = memoryview(data)
        for at in range(0, len(data), BLOCK):
            block = bytes(view[at : at + BLOCK])
            tell = partial(write, block, start + at)
            await self._do(tell)

    async def give(self, given: Given) -> None:
        await self._files.flush(self._line, self._path, self._file)
        await self._files.set_by(given, lambda attrs: self._do(lambda: self._file.setstat(attrs)))


async def _some(listing: AsyncIterator[Any]) -> list[tuple[bytes, SFTPAttrs]]:
    """About as many names as come with one answer; none at the end."""
    found: list[tuple[bytes, SFTPAttrs]] = []
    async for entry in listing:
        if entry.filename not in (b".", b".."):
            found.append((entry.filename, entry.attrs))
        if len(found) >= AT_ONCE:
            break
    return found


def _found(attrs: SFTPAttrs) -> FileLook:
    """A server need not tell all of it."""
    kind = FileKind.FILE
    permissions = None
    modified = None
    mode = attrs.permissions
    if mode is not None:
        kind = _KINDS.get(st.S_IFMT(mode), FileKind.OTHER)
        permissions = st.S_IMODE(mode) & 0o777
    if attrs.mtime is not None:
        modified = int(attrs.mtime) * SECOND_NS
    return FileLook(kind, attrs.size or 0, modified, permissions)


def _attrs(given: Given) -> SFTPAttrs | None:
    """None: there is nothing to set. A time that 32 bits don't hold is left as it is."""
    second = None if given.modified_ns is None else given.modified_ns // SECOND_NS
    if second is not None and not 0 <= second <= LAST_SECOND:
        second = None
    if given.mode is None and second is None:
        return None
    return SFTPAttrs(permissions=given.mode, atime=second, mtime=second)
