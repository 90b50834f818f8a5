"""The root of a folder store, and how anything below it is opened: one part at a time, without
following links. Every path is hostile.

Only regular files are opened, checked by fstat after a non-blocking open. All work on the disk is
done in threads.
"""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import errno
import os
import stat as st
import struct
from collections.abc import Iterator
from functools import lru_cache
from typing import Any, NamedTuple

from pinecart.core.entries import LINK, Entry
from pinecart.core.errors import Busy, Missing, PlaceLost, Refused, StoreError, Taken, Unsafe
from pinecart.core.places import show
from pinecart.drivers.file_names import folder_entry, must_be_safe, parts_of
from pinecart.drivers.folder.kernel import FOLDER_FLAGS, KERNEL, LIBC, Kernel
from pinecart.drivers.folder.writing import entry_of, holdable

FILE = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
GROWING = FILE | os.O_WRONLY | os.O_APPEND | os.O_CREAT


class Pin:
    """The very folder that lay at a root when this process first opened it.

    An unmounted disk leaves another one there.
    """

    def __init__(self) -> None:
        self._seen: tuple[int, int] | None = None

    def hold(self, fd: int, name: str, path: str) -> None:
        """Raises PlaceLost if it is another one now."""
        found = os.fstat(fd)
        mark = (found.st_dev, found.st_ino)
        if self._seen is None:
            self._seen = mark
        if mark != self._seen:
            message = (
                f"Store {name}: another folder lies at {path} than when this began. Was its disk "
                "unmounted? Nothing was written there since. Mount it, and start the run again."
            )
            raise PlaceLost(message)


class FolderRoot(NamedTuple):
    """path: of the folder.   fsid: the file system's id when the store was registered; 0: not
    remembered.

    forbidden: (device, inode) of folders that are never entered.   links: "refuse", "skip",
    "follow" or "keep". marker: name of a file in the root without which it is taken for another
    disk.
    """

    name: str
    path: str
    pin: Pin
    fsid: int = 0
    forbidden: frozenset[tuple[int, int]] = frozenset()
    links: str = "refuse"
    marker: str = ""
    kernel: Kernel = KERNEL

    def named(self, key: bytes) -> str:
        return f"pine://{self.name}/{show(key)}"

    @contextlib.contextmanager
    def folder(self, parts: tuple[bytes, ...], *, create: bool = False) -> Iterator[int]:
        """A descriptor of a folder below the root, opened part by part."""
        try:
            fd = open_root(self.path)
        except (FileNotFoundError, NotADirectoryError):
            message = f"Store {self.name}: there is no folder at {self.path}. Is its disk mounted?"
            raise PlaceLost(message, code="store.no-root") from None
        try:
            self.pin.hold(fd, self.name, self.path)
            self._may_enter(fd)
            for part in parts:
                beneath = self.path if self.links == "follow" else ""
                inner = _enter(self.kernel, fd, part, create=create, beneath=beneath)
                os.close(fd)
                fd = inner
                self._may_enter(fd)
            yield fd
        finally:
            os.close(fd)

    def _may_enter(self, fd: int) -> None:
        found = os.fstat(fd)
        if (found.st_dev, found.st_ino) in self.forbidden:
            raise Unsafe(
                f"Store {self.name}: Pine Cart's own state folder lies there; it is never "
                "read or written by a job."
            )

    @contextlib.contextmanager
    def file(self, key: bytes) -> Iterator[int]:
        must_be_safe(key, self.name)
        *parents, name = key.split(b"/")
        opened = self.folder(tuple(parents))
        with opened as parent, self.file_in(parent, name) as fd:
            yield fd

    def open_to_append(self, key: bytes) -> int:
        """A descriptor of a regular file, which is made where there is none."""
        must_be_safe(key, self.name)
        *parents, name = key.split(b"/")
        with self.folder(tuple(parents), create=True) as parent:
            fd = os.open(name, GROWING, 0o640, dir_fd=parent)
        if not st.S_ISREG(os.fstat(fd).st_mode):
            os.close(fd)
            message = f"{show(name)} at {self.name} is not a regular file."
            raise Unsafe(message, code="not-a-file")
        return fd

    @contextlib.contextmanager
    def file_in(self, parent: int, name: bytes) -> Iterator[int]:
        """A file that a link may lead to, never out of the root: the kernel holds the
        way to that.
        """
        if self.links == "follow":
            with self.folder(()) as root:
                fd = _open_beneath(
                    root,
                    os.readlink(f"/proc/self/fd/{parent}").encode() + b"/" + name,
                    FILE & ~os.O_NOFOLLOW,
                )
        else:
            fd = os.open(name, FILE, dir_fd=parent)
        try:
            if not st.S_ISREG(os.fstat(fd).st_mode):
                raise Unsafe(
                    f"{show(name)} at {self.name} is not a regular file.", code="not-a-file"
                )
            yield fd
        finally:
            os.close(fd)

    def link(self, key: bytes) -> tuple[Entry, bytes] | None:
        """A link that is kept as one, and its text."""
        if self.links != "keep":
            return None
        must_be_safe(key, self.name)
        *parents, name = key.split(b"/")
        with self.folder(tuple(parents)) as parent:
            found = os.stat(name, dir_fd=parent, follow_symlinks=False)
            if not st.S_ISLNK(found.st_mode):
                return None
            return entry_of(key, found)._replace(kind=LINK), os.readlink(name, dir_fd=parent)

    def entry(self, key: bytes) -> Entry:
        """What lies there now."""
        if key.endswith(b"/"):
            with self.folder(parts_of(key)) as fd:
                return folder_entry(key)
        link = self.link(key)
        if link:
            return link[0]
        with self.file(key) as fd:
            return entry_of(key, os.fstat(fd))

    def must_be_the_same(self, root: int) -> None:
        if self.fsid and os.fstatvfs(root).f_fsid != self.fsid:
            raise PlaceLost(
                f"Store {self.name}: another file system lies at {self.path} than when it "
                "was registered. Is the disk "
                f"mounted? If it was moved on purpose, register the store again.",
                code="store.not-the-same",
            )
        try:
            found = not self.marker or st.S_ISREG(
                os.stat(self.marker, dir_fd=root, follow_symlinks=False).st_mode
            )
        except FileNotFoundError:
            found = False
        if not found:
            message = (
                f"Store {self.name}: the marker file {self.marker} is not at {self.path}. Is the "
                "right disk mounted? If it is, make the file again."
            )
            raise PlaceLost(message, code="store.not-the-same")

    async def do(self, work: Any) -> Any:
        """Work in a thread; the disk's errors become ours."""
        try:
            return await asyncio.to_thread(work)
        except OSError as exc:
            raise translated(exc, self.name) from exc


def open_root(path: str) -> int:
    """The folder at a path on which no part is a link: one that was put there since would lead to
    another place.
    """
    try:
        return _open_as(_HERE, os.fsencode(path), FOLDER_FLAGS & ~os.O_NOFOLLOW, _NO_LINKS)
    except OSError as exc:
        if exc.errno != errno.ELOOP:
            raise
        message = (
            f"{path}: a part of this path is a link by now, so it may lead to another place. "
            "Nothing was read or written there. Put the folder back, or register the store "
            "again."
        )
        raise PlaceLost(message, code="store.not-the-same") from None


def _open_beneath(root: int, path: bytes, flags: int) -> int:
    """Open an absolute path by the kernel's own rule that no link may lead out of `root` (Linux
    openat2, RESOLVE_BENEATH).
    """
    shown = os.readlink(f"/proc/self/fd/{root}")
    top = shown.encode("utf-8", "surrogateescape")
    inner = os.path.relpath(path, top)
    return _open_as(root, inner, flags, _BENEATH)


_NO_LINKS, _BENEATH = (
    0x04,
    0x08 | 0x02,
)  # RESOLVE_NO_SYMLINKS; RESOLVE_BENEATH, and no links of /proc (Linux openat2)
_HERE = -100  # AT_FDCWD
_OPENAT2 = ctypes.c_long(437)
_how = lru_cache(maxsize=16)(struct.Struct("QQQ").pack)


def _open_as(root: int, path: bytes, flags: int, rule: int) -> int:
    how = _how(flags, 0, rule)
    length = ctypes.c_size_t(len(how))
    fd = LIBC.syscall(_OPENAT2, ctypes.c_int(root), path, how, length)
    if fd >= 0:
        return int(fd)
    number = ctypes.get_errno()
    words = os.strerror(number)
    if number == errno.EXDEV:
        number = errno.ELOOP
    raise OSError(number, words, path)


def _enter(kernel: Kernel, fd: int, part: bytes, *, create: bool, beneath: str = "") -> int:
    """Open a folder in a folder; made, and its parent flushed, where that is wanted.

    beneath: links in there are followed.
    """
    try:
        if beneath and st.S_ISLNK(os.stat(part, dir_fd=fd, follow_symlinks=False).st_mode):
            root = open_root(beneath)
            try:
                return _open_beneath(
                    root,
                    os.readlink(f"/proc/self/fd/{fd}").encode() + b"/" + part,
                    FOLDER_FLAGS & ~os.O_NOFOLLOW,
                )
            finally:
                os.close(root)
        return kernel.open_folder(part, fd)
    except FileNotFoundError:
        if not create:
            raise
        with contextlib.suppress(FileExistsError), holdable(part, fd):
            os.mkdir(part, dir_fd=fd)
        os.fsync(fd)
        return kernel.open_folder(part, fd)


def is_gone(exc: OSError, root: FolderRoot, parents: tuple[bytes, ...]) -> bool:
    """Whether an error definitely says that nothing of this name is there, in folders of these
    names below the root.

    What lies below a name that is a plain file, or is too long for this file system, is not there.
    A link on the way is not followed: nobody knows what lies behind it.
    """
    if exc.errno in (errno.ENOENT, errno.ENAMETOOLONG):
        return True
    if exc.errno not in (errno.ENOTDIR, errno.ELOOP):
        return False
    for n, part in enumerate(parents):
        try:
            with root.folder(parents[:n]) as above:
                mode = os.stat(part, dir_fd=above, follow_symlinks=False).st_mode
        except OSError:
            return False
        if not st.S_ISDIR(mode):
            return st.S_ISREG(mode)
    return False


_BY_ERRNO: dict[int, tuple[type[StoreError], str, str]] = {
    errno.ENOENT: (Missing, "store.missing", "There is no such file or folder."),
    errno.ENOTDIR: (
        Refused,
        "store.not-a-folder",
        "A part of the path is no folder, or is a link, which is not followed.",
    ),
    errno.ELOOP: (Unsafe, "not-a-file", "It is a link, which is not followed."),
    errno.EACCES: (
        Refused,
        "store.refused",
        "The service's account may not do that. Grant it the right.",
    ),
    errno.EPERM: (
        Refused,
        "store.refused",
        "The service's account may not do that. Grant it the right.",
    ),
    errno.EEXIST: (
        Taken,
        "store.not-as-planned",
        "Something is there that was not when this was planned.",
    ),
    errno.EISDIR: (Refused, "store.is-a-folder", "A folder stands where the file should be."),
    errno.ENOTEMPTY: (Refused, "store.is-a-folder", "A folder stands where the file should be."),
    errno.ENOSPC: (Refused, "store.full", "The disk is full. Make room, and try again."),
    errno.EDQUOT: (Refused, "store.full", "The quota is used up. Make room, and try again."),
    errno.EFBIG: (
        Refused,
        "store.too-large",
        "The file is larger than this file system takes, or than this service may write.",
    ),
    errno.EROFS: (Refused, "store.refused", "The disk is mounted read-only."),
    errno.ENAMETOOLONG: (Unsafe, "unsafe-name", "The name is too long for this folder."),
}


def translated(exc: OSError, store: str) -> StoreError:
    """As an error of ours."""
    number = exc.errno or 0
    words = exc.strerror or "The disk gave an error."
    unknown = (Busy, "store.busy", words)
    kind, code, words = _BY_ERRNO.get(number, unknown)
    named = "folder"
    file = exc.filename
    if isinstance(file, str | bytes):
        named = show(os.fsencode(file))
    message = f"Store {store}, {named}: {words}"
    return kind(message, code=code)
