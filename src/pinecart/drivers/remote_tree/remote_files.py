"""What a protocol must be able to do with files and folders of another machine.

Paths are bytes below the store's root, without a leading slash; empty is the root itself. Each call
is one attempt: it raises Busy for what may be tried again, and the other StoreErrors for good.
Nothing follows a link unless it says so.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import AbstractAsyncContextManager
from enum import StrEnum
from typing import NamedTuple, Protocol

from pinecart.core.ports import Put


class FileKind(StrEnum):
    FILE = "file"
    FOLDER = "folder"
    LINK = "link"
    OTHER = "other"  # a device, a pipe, what the protocol can't name
    UNREADABLE = "unreadable"  # the server names it, and tells nothing of it


class FileLook(NamedTuple):
    """What a look tells of one name.

    modified_ns: as finely as the protocol has it; None: not told.   mode: permission bits.
    inode: the file's number there; 0: none.   etag: what the server says changes with its content.
    marks: what else its server says of it, such as that it is hidden.   is_firm: a condition on its
    etag may be asked for.   is_pinned: the answers that have its bytes name the etag as well.
    """

    kind: FileKind
    size: int = 0
    modified_ns: int | None = None
    mode: int | None = None
    inode: int = 0
    etag: str = ""
    is_firm: bool = False
    is_pinned: bool = False
    marks: tuple[str, ...] = ()


class Named(NamedTuple):
    """One name of a folder."""

    name: bytes
    found: FileLook


class Given(NamedTuple):
    """What a file is to have besides its bytes; None: whatever it gets."""

    modified_ns: int | None = None
    mode: int | None = None
    marks: tuple[str, ...] = ()


MARKS = "user.marks"  # under which they go along as an attribute


def given_of(put: Put) -> Given:
    marks = put.extra.attributes.get(MARKS, b"").decode("ascii", "replace").split()
    return Given(put.card.modified_ns, put.extra.mode, tuple(marks))


class Written(NamedTuple):
    """What a write of a small file told.

    back: what was read again; None: nothing was.   found: how it was told with that.
    """

    back: bytes | None = None
    found: FileLook | None = None


class How(StrEnum):
    """How a file is opened. MAKE: it must not be there yet. AGAIN: to be gone on with."""

    READ = "read"
    MAKE = "make"
    AGAIN = "again"


class RemoteFile(Protocol):
    """An opened file."""

    async def look(self) -> FileLook: ...
    async def read(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        """Short only where the file ends. into: room that may be used for it."""
        ...

    async def write(self, start: int, data: bytes) -> None: ...
    async def give(self, given: Given) -> None:
        """Flush it where that is offered, and set what can be set."""
        ...


class RemoteFiles(Protocol):
    """name: of the store.   requests: sent so far.

    by_offset: an opened file can be written anywhere; else a large one is sent whole (WritesInOne).
    pieces: of a large file, that are written at once.
    sets_times: in general.   removes_below: what is taken away goes with all that lies below it, if
    it is a folder.   repeats: a request may be sent twice unasked, where a line is cut.
    by_address: a rename tells the new name in an address.
    """

    name: str
    by_offset: bool
    pieces: int
    sets_times: bool
    removes_below: bool
    repeats: bool
    by_address: bool

    @property
    def requests(self) -> int: ...

    def kept_time(self, modified_ns: int) -> int | None:
        """A time as it is told once it was set; None: it can't be."""
        ...

    def place(self) -> str:
        """What makes it the same place again: protocol, host, port, root."""
        ...

    async def names(self, path: bytes) -> Sequence[Named]:
        """All names of a folder, in any order, without `.` and `..`."""
        ...

    async def look(self, path: bytes) -> FileLook: ...
    def open(self, path: bytes, how: How) -> AbstractAsyncContextManager[RemoteFile]: ...
    async def read_whole(self, path: bytes, size: int) -> tuple[FileLook, bytes]:
        """A small file of about this size: what it is as it is opened, and its bytes; one more than
        `size` where it has more.
        """
        ...

    async def write_whole(
        self, path: bytes, body: bytes, given: Given, *, read_back: bool
    ) -> Written:
        """A small file that must not be there yet."""
        ...

    async def set(self, path: bytes, given: Given) -> None: ...
    async def rename(self, old: bytes, new: bytes) -> None:
        """Raises Taken where the server refuses since something is there; not all do."""
        ...

    async def replace(
        self, old: bytes, new: bytes, away: bytes, seen: FileLook | None = None
    ) -> None:
        """Put `old` in the place of `new`, in one step where the protocol has one.

        away: a hidden path for what was there meanwhile, where it has not; it is taken away.
        seen: the server itself shall see to it that this is what is replaced. Raises Taken.
        """
        ...

    async def remove(self, path: bytes, seen: FileLook | None = None) -> None:
        """seen: the server itself shall see to it that this is what goes. Raises Taken."""
        ...

    async def make_folder(self, path: bytes) -> None:
        """Raises Taken where something has the name."""
        ...

    async def remove_folder(self, path: bytes) -> None:
        """Only an empty one, unless `removes_below`."""
        ...

    async def close(self) -> None: ...


class RemoteLinks(Protocol):
    """A protocol that has symbolic links."""

    async def link_text(self, path: bytes) -> bytes: ...
    async def make_link(self, path: bytes, text: bytes) -> None: ...
    async def look_through(self, path: bytes) -> FileLook:
        """What the link leads to."""
        ...

    async def real_path(self, path: bytes) -> bytes:
        """The whole path on the server, with every link on the way followed."""
        ...


class WritesInOne(Protocol):
    """A protocol that sends a file whole."""

    async def write_stream(
        self, path: bytes, size: int, chunks: Callable[[], AsyncIterator[bytes]], given: Given
    ) -> None:
        """A file that must not be there yet, all of it."""
        ...
