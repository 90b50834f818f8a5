"""Files over SMB 2 and 3: one call, one request of the protocol, or a few in one.

What can go wrong here, and is met: a line that is cut or silent; a file that somebody holds open; a
server that gives few handles; names that no share holds, or that are one by case; a share that is
not there; an account that can't sign in; encryption that the server doesn't have.
"""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from contextlib import asynccontextmanager
from functools import partial
from typing import Any, NoReturn, TypeVar, cast

from smbprotocol.exceptions import SMBResponseException
from smbprotocol.file_info import (
    FileBasicInformation,
    FileDispositionInformation,
    FileInformationClass,
    FileRenameInformation,
)
from smbprotocol.open import (
    CreateDisposition,
    CreateOptions,
    FileAttributes,
    FilePipePrinterAccessMask,
    ImpersonationLevel,
    Open,
    ShareAccess,
    SMB2QueryDirectoryRequest,
    SMB2QueryDirectoryResponse,
    SMB2SetInfoRequest,
)

from pinecart.core.errors import Missing, StoreError, Unsafe
from pinecart.core.places import show
from pinecart.drivers.file_names import must_be_safe
from pinecart.drivers.remote_tree.remote_files import (
    FileLook,
    Given,
    How,
    Named,
    Written,
)
from pinecart.drivers.smb.lines import SmbLine, SmbLines, SmbServer
from pinecart.drivers.smb.status import END_OF_FILE, NO_MORE_FILES, OVER, error_from
from pinecart.drivers.smb.wire import (
    STEP_NS,
    attributes_of,
    filetime_of,
    listed,
    look_of,
    ns_of,
    path_on_share,
    why_unfit,
)

T = TypeVar("T")
BLOCK = 1 << 20  # bytes of one read or write, at most: small servers take less
LISTED = 1 << 16  # bytes of names that come at once
_Mask = FilePipePrinterAccessMask
_LOOK = _Mask.FILE_READ_ATTRIBUTES
_READ = _Mask.FILE_READ_DATA | _LOOK
_WRITE = _READ | _Mask.FILE_WRITE_DATA | _Mask.FILE_WRITE_ATTRIBUTES
_ANY = ShareAccess.FILE_SHARE_READ | ShareAccess.FILE_SHARE_WRITE | ShareAccess.FILE_SHARE_DELETE
_AS_IT_IS = CreateOptions.FILE_OPEN_REPARSE_POINT  # a link is not followed
_A_FILE = CreateOptions.FILE_NON_DIRECTORY_FILE
_A_FOLDER = CreateOptions.FILE_DIRECTORY_FILE
_HOW = {
    How.READ: (_READ, CreateDisposition.FILE_OPEN),
    How.MAKE: (_WRITE, CreateDisposition.FILE_CREATE),
    How.AGAIN: (_WRITE, CreateDisposition.FILE_OPEN_IF),
}


class SmbFiles:
    """remote_tree.RemoteFiles. Links, and other files that stand for something else, are neither
    followed nor taken.

    root: below the share.
    """

    by_offset = True
    sets_times = True
    removes_below = False
    repeats = False
    by_address = False
    pieces = 3  # the library holds each message several times

    def __init__(self, server: SmbServer, root: str) -> None:
        self.name = server.name
        self.requests = 0
        self._root = root
        self.lines = SmbLines(server)

    @classmethod
    def from_spec(cls, spec: Mapping[str, Any]) -> SmbFiles:
        return cls(SmbServer.from_spec(spec), spec.get("root") or "")

    def kept_time(self, modified_ns: int) -> int | None:
        if filetime_of(modified_ns) > 0:
            return modified_ns // STEP_NS * STEP_NS
        return None

    def place(self) -> str:
        server = self.lines.server
        return f"smb:{server.host}:{server.port}/{server.share}/{self._root}"

    async def close(self) -> None:
        await self.lines.close()

    # --- one call

    async def do(self, path: bytes, call: Callable[[SmbLine], T], line: SmbLine | None = None) -> T:
        """The library's refusals become ours. line: that a handle belongs to; None: any."""
        self.requests += 1
        try:
            return await self.lines.do(call, line)
        except SMBResponseException as exc:
            self._tell(exc, path)

    def _tell(self, exc: SMBResponseException, path: bytes) -> NoReturn:
        """As an error of ours."""
        if exc.status in OVER:
            self.lines.begin_anew()
        named = f"pine://{self.name}/{show(path)}"
        said = str(exc)[:200]
        raise error_from(exc.status, said, what=named) from exc

    def _on_share(self, path: bytes) -> str:
        """Raises Unsafe: a backslash would lead elsewhere, a colon to another stream of a file."""
        if path:
            must_be_safe(path, self.name)
            why = why_unfit(path, self.name)
            if why:
                raise Unsafe(why)
        return path_on_share(self._root, path)

    def _open(self, line: SmbLine, path: bytes) -> Open:
        return Open(line.tree, self._on_share(path))

    async def _once(
        self,
        path: bytes,
        access: int,
        options: int,
        work: Callable[[Open], T],
        disposition: int = CreateDisposition.FILE_OPEN,
    ) -> T:
        """Opened, and closed whatever comes of the work."""

        def call(line: SmbLine) -> T:
            handle = self._open(line, path)
            _create(handle, access, disposition, options)
            try:
                return work(handle)
            finally:
                with contextlib.suppress(SMBResponseException):
                    handle.close()

        return await self.do(path, call)

    # --- looking

    async def look(self, path: bytes) -> FileLook:
        return await self._once(path, _LOOK, _AS_IT_IS, _look_of)

    async def names(self, path: bytes) -> Sequence[Named]:
        found = await self._once(path, _READ, _A_FOLDER | _AS_IT_IS, _names_in)
        return [Named(name, seen) for name, seen in found if name not in (b".", b"..")]

    # --- files

    @asynccontextmanager
    async def open(self, path: bytes, how: How) -> AsyncIterator[OpenedSmbFile]:
        file = await self._opened(path, how)
        try:
            yield file
        finally:
            await file.close()

    async def _opened(self, path: bytes, how: How) -> OpenedSmbFile:
        """Raises StoreError."""
        access, disposition = _HOW[how]

        def call(line: SmbLine) -> tuple[SmbLine, Open]:
            handle = self._open(line, path)
            _create(handle, access, disposition, _A_FILE | _AS_IT_IS)
            return line, handle

        line, handle = await self.do(path, call)
        return OpenedSmbFile(self, line, path, handle)

    async def read_whole(self, path: bytes, size: int) -> tuple[FileLook, bytes]:
        async with self.open(path, How.READ) as file:
            return await file.look(), await file.read(0, size + 1)

    async def write_whole(
        self, path: bytes, body: bytes, given: Given, *, read_back: bool
    ) -> Written:
        """A new file, its bytes, then its time and attributes, on one handle. Whether it is read
        back is the store's setting.
        """
        async with self.open(path, How.MAKE) as file:
            await file.write(0, body)
            await file.give(given)
            return Written(await file.read(0, len(body) + 1) if read_back else None)

    async def set(self, path: bytes, given: Given) -> None:
        access = _LOOK | _Mask.FILE_WRITE_ATTRIBUTES
        await self._once(path, access, _AS_IT_IS, partial(_give, given))

    # --- names

    async def rename(self, old: bytes, new: bytes) -> None:
        await self._renamed(old, new, replaces=False)

    async def replace(
        self, old: bytes, new: bytes, away: bytes, seen: FileLook | None = None
    ) -> None:
        """In one step. Some servers replace what somebody holds open, others say no more than
        that they don't: whether somebody does is asked first.
        """
        with contextlib.suppress(Missing):
            await self._once(new, _Mask.DELETE | _LOOK, _A_FILE | _AS_IT_IS, lambda _: None)
        await self._renamed(old, new, replaces=True)

    async def _renamed(self, old: bytes, new: bytes, *, replaces: bool) -> None:
        """In one step, over what is there if that is wanted. The server refuses it as long as
        somebody has either of them open.
        """
        told = FileRenameInformation()
        told["replace_if_exists"] = replaces
        told["file_name"] = self._on_share(new)
        access = _Mask.DELETE | _LOOK

        def rename(handle: Open) -> None:
            _set(handle, told)

        await self._once(old, access, _AS_IT_IS, rename)

    async def remove(self, path: bytes, seen: FileLook | None = None) -> None:
        await self._once(path, _Mask.DELETE | _LOOK, _A_FILE | _AS_IT_IS, _removed)

    async def make_folder(self, path: bytes) -> None:
        made = CreateDisposition.FILE_CREATE
        await self._once(path, _LOOK, _A_FOLDER, lambda _: None, made)

    async def remove_folder(self, path: bytes) -> None:
        await self._once(path, _Mask.DELETE | _LOOK, _A_FOLDER | _AS_IT_IS, _removed)


class OpenedSmbFile:
    """A handle on the line that it was opened on."""

    def __init__(self, files: SmbFiles, line: SmbLine, path: bytes, handle: Open) -> None:
        """What goes at once is what both sides can take: the server tells its most as the line
        begins.
        """
        self._files = files
        self._line = line
        self._path = path
        self._handle = handle
        self._read_at_once = min(BLOCK, line.connection.max_read_size)
        self._written_at_once = min(BLOCK, line.connection.max_write_size)

    async def _do(self, call: Callable[[], T]) -> T:
        return await self._files.do(self._path, lambda _: call(), self._line)

    async def close(self) -> None:
        """A handle that can't be closed goes with its line; what was written is looked at."""
        if self._line.is_live:
            with contextlib.suppress(StoreError):
                await self._do(self._handle.close)

    async def look(self) -> FileLook:
        """As it was when it was opened."""
        return _look_of(self._handle)

    async def read(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        read = partial(_read, self._handle)
        most = self._read_at_once
        if size <= most and into is None:
            return await self._do(partial(read, start, size))
        room = memoryview(bytearray(size) if into is None else into)
        done = 0
        while done < size:
            wanted = min(most, size - done)
            block = await self._do(partial(read, start + done, wanted))
            room[done : done + len(block)] = block
            done += len(block)
            if len(block) < wanted:
                break
        found = room[:done]
        if into is None:
            return bytes(found)
        return cast("bytes", found)

    async def write(self, start: int, data: bytes) -> None:
        most = self._written_at_once
        for at in range(0, len(data), most):
            block = bytes(data[at : at + most])
            await self._do(partial(_write, self._handle, start + at, block))

    async def give(self, given: Given) -> None:
        await self._do(self._handle.flush)
        await self._do(partial(_give, given, self._handle))


# --- what the library blocks on


def _create(handle: Open, access: int, disposition: int, options: int) -> None:
    handle.create(
        ImpersonationLevel.Impersonation,
        access,
        FileAttributes.FILE_ATTRIBUTE_NORMAL if options & _A_FILE else 0,
        _ANY,
        disposition,
        options,
    )


def _look_of(handle: Open) -> FileLook:
    return look_of(handle.file_attributes, handle.end_of_file, ns_of(handle.last_write_time))


def _read(handle: Open, start: int, size: int) -> bytes:
    """Short, or nothing, where the file ends."""
    try:
        found: bytes = handle.read(start, size)
    except SMBResponseException as exc:
        if exc.status != END_OF_FILE:
            raise
        return b""
    return found


def _write(handle: Open, start: int, block: bytes) -> None:
    """A server may take less than it is given, and is given the rest."""
    done = 0
    while done < len(block):
        count = handle.write(block[done:], start + done)
        if not count:
            raise ValueError("the server takes nothing")
        done += count


def _give(given: Given, handle: Open) -> None:
    """What is 0 stays as it is (MS-FSCC 2.4.7)."""
    time = max(filetime_of(given.modified_ns or 0), 0) if given.modified_ns is not None else 0
    attributes = attributes_of(given.marks)
    if not time and not attributes:
        return
    told = FileBasicInformation()
    told["last_write_time"] = time
    told["file_attributes"] = attributes
    _set(handle, told)


def _removed(handle: Open) -> None:
    told = FileDispositionInformation()
    told["delete_pending"] = True
    _set(handle, told)


def _set(handle: Open, told: Any) -> None:
    """One attribute block of an open file: the library has no call of its own for it."""
    asked = SMB2SetInfoRequest()
    asked["info_type"] = told.INFO_TYPE
    asked["file_info_class"] = told.INFO_CLASS
    asked["file_id"] = handle.file_id
    asked["buffer"] = told
    tree = handle.tree_connect
    connection = handle.connection
    session = tree.session.session_id
    request = connection.send(asked, session, tree.tree_connect_id)
    connection.receive(request)


def _names_in(handle: Open) -> list[tuple[bytes, FileLook]]:
    """All that is in an open folder, in the order of the server. It tells the end by a status,
    which is no error.
    """
    found: list[tuple[bytes, FileLook]] = []
    tree = handle.tree_connect
    while True:
        asked = SMB2QueryDirectoryRequest()
        kind = FileInformationClass.FILE_ID_FULL_DIRECTORY_INFORMATION
        asked["file_information_class"] = kind
        asked["file_id"] = handle.file_id
        asked["output_buffer_length"] = LISTED
        asked["buffer"] = "*".encode("utf-16-le")
        request = handle.connection.send(asked, tree.session.session_id, tree.tree_connect_id)
        try:
            answer = handle.connection.receive(request)
        except SMBResponseException as exc:
            if exc.status == NO_MORE_FILES:
                return found
            raise
        told = SMB2QueryDirectoryResponse()
        told.unpack(answer["data"].get_value())
        found += listed(told["buffer"].get_value())
