"""How a file comes to be in a folder: under a hidden name, flushed, read back, renamed, and its
folder flushed.

Small files are written some at a time by one thread: one flush of the file system serves them all.
"""

from __future__ import annotations

import asyncio
import contextlib
import errno
import os
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from types import TracebackType
from typing import Any

from pinecart.core.checksum import EMPTY, combine
from pinecart.core.entries import Entry
from pinecart.core.errors import Corrupt, StoreError, Taken, Unsafe
from pinecart.core.places import show
from pinecart.core.ports import HELD_BYTES, Placed, Put
from pinecart.drivers.folder.kernel import Kernel

SMALL_WRITE = 1 << 20  # up to here files are written together
TOGETHER = 32  # files that one thread writes at a time, at most
# where the disk is slow; else one is enough, and several only take the interpreter from each other
THREADS = 4
SLOW_S = 0.005  # for one file among others
FLUSH_ALL_FROM = 4  # of so many files on, the whole file system is flushed once
READERS = 4


class Parents:
    """Descriptors of the folders that a few files go to, each opened once, part by part.

    Closed at the end.
    """

    def __init__(
        self, opened: Callable[[tuple[bytes, ...]], contextlib.AbstractContextManager[int]]
    ) -> None:
        """opened: opens a folder, and makes it where it isn't there.   Each is opened once, and all
        are closed together at the end.
        """
        self._opened = opened
        self._stack = contextlib.ExitStack()
        self._known: dict[tuple[bytes, ...], int] = {}

    def __enter__(self) -> Parents:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, exc: BaseException | None, tb: TracebackType | None
    ) -> None:
        self._stack.close()

    def of(self, key: bytes) -> tuple[int, bytes]:
        """The folder's descriptor and the name in it."""
        *parents, name = key.split(b"/")
        parts = tuple(parents)
        if parts not in self._known:
            opened = self._opened(parts)
            self._known[parts] = self._stack.enter_context(opened)
        return self._known[parts], name


class FolderWriting:
    """One file on its way.

    `drop` closes it, and clears what is left of it where it did not get its name.
    """

    def __init__(
        self,
        store: str,
        put: Put,
        parents: Parents,
        hidden: bytes,
        is_same: Callable[[os.stat_result, Entry], bool],
        kernel: Kernel,
        *,
        read_back: bool = True,
    ) -> None:
        self._store = store
        self.put = put
        self._kernel = kernel
        self._is_same = is_same
        self._reads_back = read_back
        self._checked = False  # it was read back while it was written
        self._guarded = False
        self.parent, self._name = parents.of(put.key)
        self._hidden: bytes | None = hidden
        flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
        self._fd = os.open(hidden, flags, 0o666, dir_fd=self.parent)

    def add_at(self, chunk: bytes, at: int) -> None:
        """The system may take less than it is given, and is given the rest."""
        view = memoryview(chunk)
        while view:
            done = os.pwrite(self._fd, view, at)
            view = view[done:]
            at += done

    def copy_from(self, fd: int, size: int) -> str:
        """All of another file, by the kernel; gives its CRC.

        A large one is read back while the rest is still copied.
        """
        if size <= self._kernel.segment:
            self._copy_range(fd, 0, size)
            return self._kernel.crc_of_range(fd, 0, size)
        step = self._kernel.segment
        parts = [(at, min(step, size - at)) for at in range(0, size, step)]
        with ThreadPoolExecutor(READERS) as readers:
            checks = []
            for at, length in parts:
                self._copy_range(fd, at, length)
                checks.append(readers.submit(self._check_range, fd, at, length))
            crc = EMPTY
            for check, (_, length) in zip(checks, parts, strict=True):
                crc = combine(crc, check.result(), length)
        self._checked = True
        return crc

    def _check_range(self, fd: int, at: int, size: int) -> str:
        """The CRC of a piece of the source, and the same piece read back from the disk, to which it
        goes while more is copied.
        """
        self._kernel.begin_flush(self._fd, at, size)
        crc = self._kernel.crc_of_range(fd, at, size)
        if self._reads_back:
            self._kernel.end_flush(self._fd, at, size)
            os.posix_fadvise(self._fd, at, size, os.POSIX_FADV_DONTNEED)
            if self._kernel.crc_of_range(self._fd, at, size) != crc:
                raise self._corrupt()
        return crc

    def _copy_range(self, fd: int, at: int, size: int) -> None:
        """By the kernel, which may share the blocks. It stops early where the source is shorter
        than it was: the comparison at the end tells that.
        """
        end = at + size
        while at < end:
            try:
                done = self._kernel.copy_range(fd, self._fd, at, end - at)
            except OSError as exc:
                if exc.errno not in (errno.EXDEV, errno.EINVAL, errno.ENOSYS, errno.EOPNOTSUPP):
                    raise
                # File systems that the kernel can't copy between.
                chunk = os.pread(fd, min(HELD_BYTES, end - at), at)
                self.add_at(chunk, at)
                done = len(chunk)
            if not done:
                return
            at += done

    def give(self) -> None:
        give(self._kernel, self._fd, self.put)

    def flush(self) -> None:
        self._kernel.flush(self._fd)

    def check(self, crc: str) -> None:
        """What is read back, from the disk where it lets go of its memory of it, must be what was
        sent.
        """
        if self._checked or not self._reads_back:
            if os.fstat(self._fd).st_size != self.put.size:
                raise self._corrupt()
            return
        os.posix_fadvise(self._fd, 0, 0, os.POSIX_FADV_DONTNEED)
        one_more = self.put.size + 1  # it would be found, and be wrong
        if self._kernel.crc_of_range(self._fd, 0, one_more) != crc:
            raise self._corrupt()

    def _corrupt(self) -> Corrupt:
        return Corrupt(
            f"pine://{self._store}/{show(self.put.key)}: what was written does not read back "
            "the same."
        )

    def name(self) -> None:
        """The hidden file gets its name, in one step that nobody sees the middle of."""
        parent = self.parent
        hidden = self._hidden or b""
        kernel = self._kernel
        with holdable(self.put.key, parent, self._hidden):
            if self.put.if_absent:
                self._guarded = kernel.rename_if_absent(parent, hidden, parent, self._name)
            else:
                self._still_as_compared()
                kernel.replace(parent, hidden, self._name)
        self._hidden = None

    def placed(self, crc: str) -> Placed:
        """What is there now, with what the proof rests on: read back from the disk, or known by its
        size alone where the store's settings say so.
        """
        proof = "read-back" if self._reads_back else "size-only"
        return Placed(
            entry_of(self.put.key, os.fstat(self._fd)), proof, guarded=self._guarded, crc=crc
        )

    def finish(self, crc: str) -> Placed:
        """All that is left to do once its bytes are there. crc: of what was sent."""
        self.give()
        self.flush()
        self.check(crc)
        self.name()
        self._kernel.flush(self.parent)
        return self.placed(crc)

    def _still_as_compared(self) -> None:
        expected = self.put.expected
        if expected is None:
            return
        try:
            found = os.stat(self._name, dir_fd=self.parent, follow_symlinks=False)
        except FileNotFoundError:
            found = None
        if found is None or not self._is_same(found, expected):
            raise Taken(
                f"pine://{self._store}/{show(self.put.key)} is not as it was when this was planned."
            )

    def drop(self) -> None:
        """Also after it got its name: then only the descriptor is left to close."""
        if self._hidden is not None:
            with contextlib.suppress(FileNotFoundError):
                os.unlink(self._hidden, dir_fd=self.parent)
        os.close(self._fd)


# Makes the file with its bytes; gives their CRC.
Begin = Callable[[Parents], tuple[FolderWriting, str]]
Waiting = tuple[Begin, asyncio.Future[Placed]]


class Batches:
    """Writes small files together: what is asked for while the threads are busy makes the next
    batch.
    """

    def __init__(self, parents: Callable[[], Parents], kernel: Kernel) -> None:
        """parents: makes the folders of one batch, kept open through it.   Those who wait are
        served together, so that a flush is one for many.
        """
        self._parents = parents
        self._kernel = kernel
        self._waiting: list[Waiting] = []
        self._tasks: set[asyncio.Task[Any] | None] = set()
        self._threads = 1

    async def write(self, begin: Begin) -> Placed:
        """Waits until its batch is on the disk. Raises what went wrong with this one file; the
        others of its batch go on.
        """
        future = asyncio.get_running_loop().create_future()
        self._waiting.append((begin, future))
        if len(self._tasks) < self._threads:
            task = asyncio.create_task(self._work())
            self._tasks.add(task)
        return await future

    async def _work(self) -> None:
        """Works as long as anybody waits. Where the disk turns out slow, several threads flush at
        once: its own delay then passes for all together.
        """
        while len(self._tasks) <= self._threads and self._waiting:
            batch = self._waiting[:TOGETHER]
            self._waiting = self._waiting[TOGETHER:]
            since = time.monotonic()
            try:
                found: list[Any] = await asyncio.to_thread(
                    write_together, [b for b, _ in batch], self._parents, self._kernel
                )
            except BaseException as exc:  # noqa: BLE001 - handed to everyone who waits for it
                found = [exc] * len(batch)
            if len(batch) >= FLUSH_ALL_FROM:
                if (time.monotonic() - since) / len(batch) > SLOW_S:
                    self._threads = THREADS
                else:
                    self._threads = 1
            for (_, future), result in zip(batch, found, strict=True):
                if future.done():
                    continue
                if isinstance(result, BaseException):
                    future.set_exception(result)
                else:
                    future.set_result(result)
        # Here, and not once it has ended: who writes meanwhile must see it go.
        self._tasks.remove(asyncio.current_task())


def write_together(
    begins: list[Begin], parents: Callable[[], Parents], kernel: Kernel
) -> list[Placed | OSError | StoreError]:
    """Each file's answer, in order: where it is, or why it isn't."""
    found: dict[int, Any] = {}
    live: dict[int, tuple[FolderWriting, str]] = {}

    @contextlib.contextmanager
    def failing(*numbers: int) -> Iterator[None]:
        try:
            yield
        except (OSError, StoreError) as exc:
            found.update(dict.fromkeys(numbers, exc))

    def still() -> list[tuple[int, FolderWriting, str]]:
        return [(n, w, crc) for n, (w, crc) in live.items() if n not in found]

    with parents() as opened:
        try:
            for n, begin in enumerate(begins):
                with failing(n):
                    live[n] = begin(opened)
            _flush(still(), failing, kernel)
            for n, writing, crc in still():
                with failing(n):
                    writing.check(crc)
                    writing.name()
            for parent in {w.parent for _, w, _ in still()}:
                with failing(*(n for n, w, _ in still() if w.parent == parent)):
                    kernel.flush(parent)
            for n, writing, crc in still():
                with failing(n):
                    found[n] = writing.placed(crc)
        finally:
            for writing, _ in live.values():
                writing.drop()
    return [found[n] for n in range(len(begins))]


def _flush(
    still: list[tuple[int, FolderWriting, str]],
    failing: Callable[..., contextlib.AbstractContextManager[None]],
    kernel: Kernel,
) -> None:
    if len(still) >= FLUSH_ALL_FROM and kernel.flushes_whole(still[0][1].parent):
        with failing(*(n for n, _, _ in still)):
            kernel.flush_whole(still[0][1].parent)
        return
    for n, writing, _ in still:
        with failing(n):
            writing.flush()


@contextlib.contextmanager
def holdable(name: bytes, parent: int, hidden: bytes | None = None) -> Iterator[None]:
    """A name that is refused though its folder is still there is one that this file system can't
    hold (such as one with `?`).
    """
    try:
        yield
    except OSError as exc:
        if (
            exc.errno not in (errno.ENOENT, errno.EINVAL, errno.EILSEQ)
            or not os.fstat(parent).st_nlink
        ):
            raise
        words = (
            f"{show(name)}: the file system there can't hold this name. Rename it, or by a rule "
            "on the way."
        )
        if hidden is not None:
            os.stat(
                hidden, dir_fd=parent, follow_symlinks=False
            )  # taken away by somebody: then that is the error
        raise Unsafe(words, code="unsafe-name") from exc


def give(kernel: Kernel, fd: int, put: Put) -> None:
    """Permissions, attributes and time, in this order."""
    if put.extra.mode is not None:
        os.fchmod(fd, put.extra.mode)
    for name, value in put.extra.attributes.items():
        os.setxattr(fd, name, value)
    if put.card.modified_ns is not None:
        kernel.set_time(fd, put.card.modified_ns)


def is_as_it_was(before: os.stat_result, now: os.stat_result) -> bool:
    """What core.entries.same says of their entries."""
    return (
        before.st_mtime_ns == now.st_mtime_ns
        and before.st_ctime_ns == now.st_ctime_ns
        and before.st_size == now.st_size
        and before.st_ino == now.st_ino
    )


def entry_of(key: bytes, found: os.stat_result) -> Entry:
    return Entry(key, found.st_size, found.st_mtime_ns, "", "", found.st_ctime_ns, found.st_ino)
