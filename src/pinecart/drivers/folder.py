"""Folders of this machine. Every path is hostile: it is opened one part at a time from the root's descriptor, without
following links; only regular files are read, checked by fstat after a non-blocking open.

A file is written under a hidden name in its own folder, flushed, renamed, and its folder flushed. All work on the
disk is done in threads, one hop for a small file.
"""

from __future__ import annotations

import asyncio
import bisect
import contextlib
import ctypes
import errno
import itertools
import os
import re
import stat as st
import struct
import sys
import time
from array import array
from collections.abc import AsyncIterator, Generator, Iterator, Mapping, Sequence
from contextlib import asynccontextmanager
from functools import partial
from typing import Any

from pinecart.core.checksum import EMPTY, Crc64
from pinecart.core.columns import Page
from pinecart.core.entries import Entry, Likeness, fingerprint, likeness, same
from pinecart.core.errors import Busy, Changed, Corrupt, Missing, Refused, StoreError, Taken, Unsafe
from pinecart.core.folding import EXACT
from pinecart.core.keeping import Extra, Keep
from pinecart.core.places import show
from pinecart.core.ports import HELD_BYTES, Abilities, Card, Level, Placed, Put, Reading, Stat, Store, Version
from pinecart.drivers import folder_names, folder_writing
from pinecart.drivers.folder_looking import Looker
from pinecart.drivers.folder_writing import (
    LIBC,
    SMALL_WRITE,
    Batches,
    Begin,
    Parents,
    Writing,
    entry_of,
    give,
    write_together,
)  # fmt: skip
from pinecart.drivers.pieces import each_piece, piece_size

PAGE = 1000
ENOUGH = 250  # of one folder are a page by themselves
HOP, HOP_S = 4000, 0.02  # entries, or seconds, of one hop to a thread
_DIR = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_FILE = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
_SLASH = ord("/")
_NAMES = sys.getfilesystemencoding()
LINK = "link"
HIDDEN = b".pinecart-"
SMALL = 64 << 10  # up to here a file is read at once, where the kernel has it in memory
SLOW_S = 0.002  # for one file read on the event loop; threads that wait for each other make some as slow on any disk …
MOSTLY = 100  # … but not so many: each counts four, each quick one takes one back


class FolderStore:
    """path: the root.   fsid: the file system's id when the store was registered; 0: not remembered.

    forbidden: (device, inode) of folders that are never entered, the state folder first of all.
    links: what becomes of symbolic links: "refuse" (listed), "skip", "follow" (inside the root), "keep" (as links).
    marker: name of a file in the root without which it is taken for another disk.
    read_back: whether every file is read from the disk after it is written; else its size is all the proof.
    run: tag for hidden names; files of this very run that an interrupted process left are cleared as they are listed.
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
    ) -> None:
        self.name = name
        self._path = path
        self._fsid = fsid
        self._links, self._marker, self._reads_back = links, marker, read_back
        self.most_at_once = 0
        self._parent: tuple[bytes, int] | None = None
        self._slowness = 0  # of such readings lately
        self._slow_left = 0  # so many more files are read by threads
        self._forbidden = forbidden
        self._ours = re.compile(rb"\.pinecart-" + re.escape(run.encode()) + rb"-\d+-\d+(-.+)?\.part")
        self._habits: folder_names.Habits | None = None
        self._wrote, self._wrote_sorted = array("Q"), True  # inodes of the files that got their names by this store
        self._batches = Batches(self._parents)
        self._run, self._numbers = run, itertools.count(1)

    @classmethod
    def from_spec(cls, spec: Mapping[str, Any]) -> FolderStore:
        forbidden = frozenset((d, i) for d, i in spec.get("forbidden", ()))
        links, run = spec.get("links") or "refuse", str(spec.get("run", 0))
        marker, read_back = spec.get("marker") or "", spec.get("read_back", "yes") != "no"
        store = cls(spec["name"], spec["path"], fsid=spec.get("fsid") or 0, forbidden=forbidden, run=run, links=links,
                    marker=marker, read_back=read_back)  # fmt: skip
        store.most_at_once = int(spec.get("most_at_once") or 0)
        return store

    async def abilities(self, prefix: bytes) -> Abilities:
        return await self._do(lambda: self._able(prefix, may_write=False))

    async def probe(self, prefix: bytes) -> Abilities:
        return await self._do(lambda: self._able(prefix, may_write=True))

    def _able(self, prefix: bytes, *, may_write: bool) -> Abilities:
        if self._habits is None or (may_write and not self._habits.asked):
            self._habits = self._asked(_parts(prefix)) if may_write else self._seen(prefix)
        folding, step_ns, _ = self._habits
        return Abilities(create_only=True, has_folders=True, keeps_times=True, folding=folding, time_step_ns=step_ns)

    def _asked(self, parts: tuple[bytes, ...]) -> folder_names.Habits:
        """By two names of our own in the folder, or in the nearest one above that is there."""
        try:
            with self._dir(parts) as fd:
                return folder_names.by_scratch(fd, self._hidden().removesuffix(b".part") + b"-")
        except OSError as exc:
            if parts and isinstance(exc, FileNotFoundError):
                return self._asked(parts[:-1])
            return self._seen(b"/".join(parts))._replace(
                asked=True
            )  # nothing can be written there: the names tell what they can

    def _seen(self, prefix: bytes) -> folder_names.Habits:
        return folder_names.Habits(folder_names.by_names(self._some_names(_parts(prefix))))

    def _some_names(self, parts: tuple[bytes, ...]) -> Iterator[tuple[int, bytes]]:
        """Names below, from wherever they come first, each with a descriptor of its folder. What can't be read is passed over."""
        todo, left = [parts], folder_names.LOOKED_AT
        while todo and left > 0:
            inner = todo.pop()
            try:
                with self._dir(inner) as fd, os.scandir(fd) as found:
                    for each in itertools.islice(found, left):
                        name = os.fsencode(each.name)
                        left -= 1
                        if each.is_dir(follow_symlinks=False):
                            todo.append((*inner, name))
                        yield fd, name
            except (OSError, StoreError):  # the listing itself will say what is wrong
                continue

    def identity(self, prefix: bytes) -> str:
        return f"folder:{self._fsid}:{self._path}/{show(prefix)}"

    async def check_place(self, prefix: bytes) -> None:
        def look() -> None:
            with self._dir(()) as fd:
                self._must_be_the_same(fd)

        await self._do(look)

    def _must_be_the_same(self, root: int) -> None:
        if self._fsid and os.fstatvfs(root).f_fsid != self._fsid:
            raise Refused(
                f"Store {self.name}: another file system lies at {self._path} than when it was registered. Is the disk "
                f"mounted? If it was moved on purpose, register the store again.",
                code="store.not-the-same",
            )
        try:
            found = not self._marker or st.S_ISREG(os.stat(self._marker, dir_fd=root, follow_symlinks=False).st_mode)
        except FileNotFoundError:
            found = False
        if not found:
            message = f"Store {self.name}: the marker file {self._marker} is not at {self._path}. Is the right disk mounted? If it is, make the file again."
            raise Refused(message, code="store.not-the-same")

    # --- looking -------------------------------------------------------------------------------------------------

    async def list(self, prefix: bytes, *, after: bytes = b"", folders: str = "") -> AsyncIterator[Sequence[Entry]]:
        found = _paged(self._walk(_parts(prefix), b"", after, folders, Looker()))
        try:
            while pages := await self._do(partial(_some, found)):
                for page in pages:
                    yield page
        finally:
            await asyncio.to_thread(found.close)

    def _walk(
        self, parts: tuple[bytes, ...], base: bytes, after: bytes, folders: str, looker: Looker
    ) -> Generator[Sequence[Entry], None, None]:
        """Everything below, some at a time, in byte order of the whole key: a folder sorts as if its name ended in `/`."""
        try:
            opened = self._dir(parts)
            fd = opened.__enter__()
        except (PermissionError, Unsafe):
            if not base:
                raise
            yield [Entry(base, 0, None, fault="unreadable")]
            return
        except OSError as exc:
            if not base or exc.errno != errno.ELOOP:
                raise
            yield [Entry(base, 0, None, fault="not-a-file")]  # a link that leads out of the root
            return
        try:
            names = _names(fd, follow=self._links == "follow")
            if self._links == "follow" and _holds_itself(self, parts, fd):
                yield [Entry(base, 0, None, fault="not-a-file")]  # a link to a folder above: it would never end
                return
            if base > after and (folders == "all" or (folders == "empty" and not names)):
                yield [_folder(base, os.fstat(fd))]
            if after:
                names = [n for n in names if base + n > after or (n[-1] == _SLASH and after.startswith(base + n))]
            at = 0
            for inner in [*_folders_in(names), len(names)]:
                for start in range(at, inner, PAGE):
                    yield self._files(fd, base, names[start : min(start + PAGE, inner)], looker)
                if inner < len(names):
                    yield from self._walk((*parts, names[inner][:-1]), base + names[inner], after, folders, looker)
                at = inner + 1
        finally:
            opened.__exit__(None, None, None)

    def _files(self, fd: int, base: bytes, names: Sequence[bytes], looker: Looker) -> Sequence[Entry]:
        """What lies in one folder, folders aside. Where all are plain files they are looked at together."""
        ours = bisect.bisect_left(names, HIDDEN)
        if (ours == len(names) or not names[ours].startswith(HIDDEN)) and (seen := looker.files(fd, names)):
            return Page.of_files((base + (b"\0" + base).join(names)).split(b"\0"), *seen)
        some: list[Entry] = []
        for name in names:
            if name.startswith(HIDDEN) and self._ours.fullmatch(name):
                os.unlink(name, dir_fd=fd)
            elif entry := self._listed(fd, name, base + name):
                some.append(entry)
        return some

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Level:
        def look() -> Level:
            with self._dir(_parts(prefix)) as fd:
                names = [n for n in _names(fd, follow=self._links == "follow") if n > after]
                page = names[:limit]
                entries = [self._listed(fd, n, n) for n in page if not n.endswith(b"/")]
                more = page[-1] if len(names) > limit else b""
                return Level([n for n in page if n.endswith(b"/")], [e for e in entries if e], more)

        return await self._do(look)

    async def stat(self, key: bytes, version: str = "") -> Stat:
        def look() -> Stat:
            if key.endswith(b"/"):
                with self._dir(_parts(key)) as fd:
                    return Stat(_folder(key, os.fstat(fd)))
            if link := self._link(key):
                return Stat(link[0])
            with self._file(key) as fd:
                return Stat(entry_of(key, os.fstat(fd)))

        return await self._do(look)

    # --- reading -------------------------------------------------------------------------------------------------

    def open(
        self, key: bytes, expected: Entry | None = None, *, version: str = ""
    ) -> contextlib.AbstractAsyncContextManager[Reading]:
        if (
            expected is not None
            and expected.size <= SMALL
            and expected.etag != LINK
            and (held := self._at_once(key)) is not None
        ):
            return contextlib.nullcontext(held)
        return self._opened(key, expected)

    @asynccontextmanager
    async def _opened(self, key: bytes, expected: Entry | None) -> AsyncIterator[_File | _Link]:
        link = await self._do(lambda: self._link(key)) if expected is not None and expected.etag == LINK else None
        if link:
            yield _Link(self, key, *link)
            return
        opened = self._dir(_parts(key)) if key.endswith(b"/") else self._file(key)
        fd = await self._do(opened.__enter__)
        try:
            found = os.fstat(fd)
            yield _File(self, key, fd, _folder(key, found) if key.endswith(b"/") else entry_of(key, found))
        finally:
            opened.__exit__(None, None, None)

    def _at_once(self, key: bytes) -> _Held | None:
        """A small file that the kernel has in memory is read here and now: a thread would cost more than the reading.

        None: it isn't, or the disk was slow lately; then a thread does it. Links are never followed this way.
        """
        if self._links == "follow" or self._slow_left:
            self._slow_left = max(self._slow_left - 1, 0)
            return None
        began = time.perf_counter()
        fd = -1
        try:
            _must_be_safe(key, self.name)
            folder, _, name = key.rpartition(b"/")
            fd = os.open(name, _FILE, dir_fd=self._parent_of(folder))
            before = os.fstat(fd)
            if not st.S_ISREG(before.st_mode) or before.st_size > SMALL:
                return None
            room = bytearray(before.st_size + 1)
            got = os.preadv(fd, [room], 0, os.RWF_NOWAIT)
            entry = entry_of(key, before)
            if got != before.st_size or not same(entry_of(key, os.fstat(fd)), entry):
                return None
            return _Held(self, key, entry, bytes(room[:got]))
        except (OSError, Unsafe):  # not in memory, or an error: the usual way finds out which, and tells it
            return None
        finally:
            if fd >= 0:
                os.close(fd)
            self._slowness = self._slowness + 4 if time.perf_counter() - began > SLOW_S else max(self._slowness - 1, 0)
            if self._slowness > MOSTLY:
                self._slow_left, self._slowness = 1000, 0

    def _parent_of(self, folder: bytes) -> int:
        """A descriptor of the folder in which the last file was as well, or of another one; at most this one is kept open."""
        if self._parent is None or self._parent[0] != folder:
            self._drop_parent()
            with self._dir(_parts(folder)) as fd:
                self._parent = (folder, os.dup(fd))
        return self._parent[1]

    def _drop_parent(self) -> None:
        if self._parent is not None:
            os.close(self._parent[1])
            self._parent = None

    # --- writing -------------------------------------------------------------------------------------------------

    async def put(self, put: Put) -> Placed:
        if put.key.endswith(b"/") and not put.size:
            return await self._put_folder(put)
        _must_be_safe(put.key, self.name)
        if put.extra.link and self._links == "keep" and isinstance(put.body, bytes):
            return await self._put_link(put, put.body)
        if isinstance(put.body, bytes):
            body = put.body
            return await self._write(lambda parents: (self._begun(put, body, parents), put.card.crc), put.size)
        source = put.body
        with self._parents() as parents:
            return await self._put_in_pieces(put, source, parents)

    async def _put_in_pieces(self, put: Put, source: Reading, parents: Parents) -> Placed:
        writing = await self._do(
            lambda: Writing(self.name, put, parents, self._hidden(), self._same, read_back=self._reads_back)
        )

        spare: list[bytearray] = []  # used again and again: fresh memory of this size is mapped page by page each time

        async def carry(_: int, start: int, size: int) -> str:
            crc, room = Crc64(), spare.pop() if spare else bytearray(HELD_BYTES)
            for at in range(start, start + size, HELD_BYTES):
                chunk = await source.piece(at, min(HELD_BYTES, start + size - at), room)
                crc.add(chunk)
                await self._do(partial(writing.add_at, chunk, at))
            spare.append(room)
            return crc.text

        try:
            crc = await each_piece(put.size, piece_size(put.size), carry)
            await source.verify()
            placed: Placed = await self._do(lambda: writing.finish(crc))
            return self._is_ours(placed)
        finally:
            await asyncio.to_thread(writing.drop)

    async def _put_folder(self, put: Put) -> Placed:
        """Made if it isn't there; its permissions, attributes and time are set."""
        _must_be_safe(put.key[:-1], self.name)

        def work() -> Placed:
            with self._dir(_parts(put.key), create=True) as fd:
                give(fd, put)
                os.fsync(fd)
                return Placed(_folder(put.key, os.fstat(fd)), "read-back", guarded=False, crc=EMPTY)

        placed: Placed = await self._do(work)
        return placed

    async def _put_link(self, put: Put, text: bytes) -> Placed:
        """A link as a link. It may point anywhere: nothing here ever follows it out of the root."""
        *parents, name = put.key.split(b"/")

        def work() -> Placed:
            with self._dir(tuple(parents), create=True) as parent:
                hidden = self._hidden()
                os.symlink(text, hidden, dir_fd=parent)
                try:
                    guarded = False
                    if put.if_absent:
                        guarded = folder_writing.rename_if_absent(parent, hidden, parent, name)
                    else:
                        if put.expected is not None:
                            self._must_be_as(parent, name, put.key, put.expected)
                        os.replace(hidden, name, src_dir_fd=parent, dst_dir_fd=parent)
                except BaseException:
                    os.unlink(hidden, dir_fd=parent)
                    raise
                os.fsync(parent)
                placed = entry_of(put.key, os.stat(name, dir_fd=parent, follow_symlinks=False))._replace(etag=LINK)
                if os.readlink(name, dir_fd=parent) != text:
                    raise Corrupt(f"pine://{self.name}/{show(put.key)}: the link does not read back the same.")
                return Placed(placed, "read-back", guarded=guarded, crc=put.card.crc)

        placed: Placed = await self._do(work)
        return placed

    def _link(self, key: bytes) -> tuple[Entry, bytes] | None:
        """A link that is kept as one, and its text."""
        if self._links != "keep":
            return None
        _must_be_safe(key, self.name)
        *parents, name = key.split(b"/")
        with self._dir(tuple(parents)) as parent:
            found = os.stat(name, dir_fd=parent, follow_symlinks=False)
            if not st.S_ISLNK(found.st_mode):
                return None
            return entry_of(key, found)._replace(etag=LINK), os.readlink(name, dir_fd=parent)

    def _listed(self, fd: int, name: bytes, key: bytes) -> Entry | None:
        """None: it is gone, or skipped."""
        try:
            found = os.stat(name, dir_fd=fd, follow_symlinks=False)
            if st.S_ISLNK(found.st_mode):
                if self._links == "skip":
                    return None
                if self._links == "keep":
                    return entry_of(key, found)._replace(etag=LINK)
                if self._links == "follow":
                    return self._listed_through(fd, name, key)
        except FileNotFoundError:
            return None
        entry = entry_of(key, found)
        return entry if st.S_ISREG(found.st_mode) else entry._replace(fault="not-a-file")

    def _listed_through(self, fd: int, name: bytes, key: bytes) -> Entry:
        try:
            with self._file_in(fd, name) as inner:
                return entry_of(key, os.fstat(inner))
        except (OSError, Unsafe):  # it leads nowhere, out of the root, or in a circle
            return Entry(key, 0, None, fault="not-a-file")

    @contextlib.contextmanager
    def _file_in(self, parent: int, name: bytes) -> Iterator[int]:
        """A file that a link may lead to, never out of the root: the kernel holds the way to that."""
        if self._links == "follow":
            with self._dir(()) as root:
                fd = _open_beneath(
                    root, os.readlink(f"/proc/self/fd/{parent}").encode() + b"/" + name, _FILE & ~os.O_NOFOLLOW
                )
        else:
            fd = os.open(name, _FILE, dir_fd=parent)
        try:
            if not st.S_ISREG(os.fstat(fd).st_mode):
                raise Unsafe(f"{show(name)} at {self.name} is not a regular file.", code="not-a-file")
            yield fd
        finally:
            os.close(fd)

    def copies_from(self, source: Store) -> bool:
        return isinstance(source, FolderStore)

    async def copy(self, put: Put, source: Store, source_key: bytes, entry: Entry, version: str = "") -> Placed | None:
        """Between two folders of this machine the kernel copies; both sides are read for their checksums."""
        if not isinstance(source, FolderStore) or entry.etag == LINK:
            return None
        if put.key.endswith(b"/"):
            return await self._put_folder(put)
        _must_be_safe(put.key, self.name)

        def begin(parents: Parents) -> tuple[Writing, str]:
            with source._file(source_key) as fd:
                opened = entry_of(b"", os.fstat(fd))
                with self._writing(put, parents) as writing:
                    crc = writing.copy_from(fd, opened.size)
                    now = entry_of(b"", os.fstat(fd))
                    if not (same(now, opened) and same(now, entry)):
                        raise Changed(f"pine://{source.name}/{show(source_key)} changed while it was read.")
                    return writing, crc

        return await self._write(begin, entry.size)

    async def _write(self, begin: Begin, size: int) -> Placed:
        """A small file together with others; a large one by itself."""
        try:
            if size <= SMALL_WRITE:
                return self._is_ours(await self._batches.write(begin))
            (found,) = await asyncio.to_thread(write_together, [begin], self._parents)
            if isinstance(found, Exception):
                raise found
        except OSError as exc:
            raise _translated(exc, self.name) from exc
        return self._is_ours(found)

    def wrote(self, entry: Entry) -> None:
        self._wrote.append(entry.inode)
        self._wrote_sorted = False

    def _is_ours(self, placed: Placed) -> Placed:
        self.wrote(placed.entry)
        return placed

    def _must_not_be_ours(self, key: bytes, expected: Entry) -> None:
        """What was written a moment ago is never taken away, under whatever name it seems to be another file."""
        if not self._wrote_sorted:
            self._wrote, self._wrote_sorted = array("Q", sorted(self._wrote)), True
        at = bisect.bisect_left(self._wrote, expected.inode)
        if at < len(self._wrote) and self._wrote[at] == expected.inode:
            message = f"pine://{self.name}/{show(key)} is a file that this very run has put there. It was left alone."
            raise Taken(message, code="written-by-this-run")

    def _hidden(self) -> bytes:
        return f".pinecart-{self._run}-{os.getpid()}-{next(self._numbers)}.part".encode()

    def _parents(self) -> Parents:
        return Parents(partial(self._dir, create=True))

    def _begun(self, put: Put, body: bytes, parents: Parents) -> Writing:
        with self._writing(put, parents) as writing:
            writing.add_at(body, 0)
            return writing

    @contextlib.contextmanager
    def _writing(self, put: Put, parents: Parents) -> Iterator[Writing]:
        """A file with its bytes, permissions and time; cleared away if that fails."""
        writing = Writing(self.name, put, parents, self._hidden(), self._same, read_back=self._reads_back)
        try:
            yield writing
            writing.give()
        except BaseException:
            writing.drop()
            raise

    # --- removing ------------------------------------------------------------------------------------------------

    async def keeps_versions(self, key: bytes) -> bool:
        return False

    async def versions(self, key: bytes) -> Sequence[Version]:
        return []

    def home(self, prefix: bytes) -> bytes:
        return b""

    async def is_absent(self, key: bytes) -> bool:
        _must_be_safe(key.removesuffix(b"/"), self.name)
        *parents, name = key.removesuffix(b"/").split(b"/")

        def look() -> bool:
            with self._dir(()) as root:
                self._must_be_the_same(root)
            try:
                with self._dir(tuple(parents)) as parent:
                    found = os.stat(name, dir_fd=parent, follow_symlinks=False)
            except FileNotFoundError:
                return True
            return st.S_ISDIR(found.st_mode) != key.endswith(b"/")  # a folder is no file; a link on the way is an error

        found: bool = await self._do(look)
        return found

    async def move(self, key: bytes, to: bytes, expected: Entry) -> Entry | None:
        """A rename, looked at again afterwards, and put back if it was another file after all."""
        if key.endswith(b"/"):
            return await self._without_a_copy(key, expected)
        _must_be_safe(to, self.name)
        *parents, name = key.split(b"/")
        *new_parents, new = to.split(b"/")
        self._must_not_be_ours(key, expected)

        def work() -> Entry:
            with self._dir(tuple(parents)) as here, self._dir(tuple(new_parents), create=True) as there:
                self._must_be_as(here, name, key, expected)
                folder_writing.rename_if_absent(here, name, there, new)
                found = os.stat(new, dir_fd=there, follow_symlinks=False)
                moved = entry_of(to, found)
                if likeness(moved, fingerprint(expected)) is Likeness.DIFFERENT:
                    folder_writing.rename_if_absent(there, new, here, name)
                    raise Taken(f"pine://{self.name}/{show(key)} changed while it was moved, and was put back.")
                for fd in (there, here):
                    os.fsync(fd)
                return moved

        moved: Entry = await self._do(work)
        return moved

    async def _without_a_copy(self, key: bytes, expected: Entry) -> Entry:
        """An empty folder is taken away; there is nothing to keep of it."""
        await self.remove(key, expected)
        return expected

    async def remove(self, key: bytes, expected: Entry) -> bool:
        *parents, name = key.removesuffix(b"/").split(b"/")
        self._must_not_be_ours(key, expected)

        def work() -> bool:
            with self._dir(tuple(parents)) as parent:
                if key.endswith(b"/"):
                    with contextlib.suppress(OSError):  # no longer empty: then it is no empty folder to remove
                        os.rmdir(name, dir_fd=parent)
                    return False
                self._must_be_as(parent, name, key, expected)
                os.unlink(name, dir_fd=parent)
                os.fsync(parent)
            return False

        guarded: bool = await self._do(work)
        return guarded

    async def tidy(self, prefix: bytes, key: bytes) -> None:
        least, parts = len(_parts(prefix)), key.split(b"/")[:-1]

        def work() -> None:
            while len(parts) > least:
                *above, last = parts
                try:
                    with self._dir(tuple(above)) as parent:
                        os.rmdir(last, dir_fd=parent)
                except OSError:  # not empty, or gone already
                    return
                parts.pop()

        await self._do(work)

    def _must_be_as(self, parent: int, name: bytes, key: bytes, expected: Entry) -> None:
        found = os.stat(name, dir_fd=parent, follow_symlinks=False)
        regular = st.S_ISREG(found.st_mode) or (expected.etag == LINK and st.S_ISLNK(found.st_mode))
        if not regular or not self._same(found, expected):
            raise Taken(f"pine://{self.name}/{show(key)} is not as it was when this was planned. It was left alone.")

    def _same(self, found: os.stat_result, expected: Entry) -> bool:
        """The very file. Where names fold, some file systems give each spelling of a name an inode of its own."""
        if self._habits and self._habits.folding != EXACT:
            expected = expected._replace(inode=found.st_ino)
        return same(entry_of(b"", found), expected)

    async def clear_uploads(self, key: bytes, since: str) -> int:
        return 0

    async def make_bucket(self, name: str) -> bool:
        raise Refused(f"{self.name} is a folder store: it has folders, not buckets.", code="bucket.no-buckets")

    async def drop_bucket(self, name: str) -> None:
        await self.make_bucket(name)

    async def close(self) -> None:
        self._drop_parent()

    # --- descriptors ---------------------------------------------------------------------------------------------

    @contextlib.contextmanager
    def _dir(self, parts: tuple[bytes, ...], *, create: bool = False) -> Iterator[int]:
        """A descriptor of a folder below the root, opened part by part."""
        try:
            fd = os.open(self._path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        except (FileNotFoundError, NotADirectoryError):
            message = f"Store {self.name}: there is no folder at {self._path}. Is its disk mounted?"
            raise Refused(message, code="store.no-root") from None
        try:
            self._may_enter(fd)
            for part in parts:
                inner = _enter(fd, part, create=create, beneath=self._path if self._links == "follow" else "")
                os.close(fd)
                fd = inner
                self._may_enter(fd)
            yield fd
        finally:
            os.close(fd)

    def _may_enter(self, fd: int) -> None:
        found = os.fstat(fd)
        if (found.st_dev, found.st_ino) in self._forbidden:
            raise Unsafe(
                f"Store {self.name}: Pine Cart's own state folder lies there; it is never read or written by a job."
            )

    @contextlib.contextmanager
    def _file(self, key: bytes) -> Iterator[int]:
        _must_be_safe(key, self.name)
        *parents, name = key.split(b"/")
        with self._dir(tuple(parents)) as parent, self._file_in(parent, name) as fd:
            yield fd

    async def _do(self, work: Any) -> Any:
        """Work in a thread; the disk's errors become ours."""
        try:
            return await asyncio.to_thread(work)
        except OSError as exc:
            raise _translated(exc, self.name) from exc


class _File:
    """A file opened for reading, pinned to what fstat said when it was opened."""

    def __init__(self, store: FolderStore, key: bytes, fd: int, entry: Entry) -> None:
        self._store, self._key, self._fd, self.entry = store, key, fd, entry
        self.card: Card | None = None
        self.content_type, self.metadata = "", dict[str, str]()

    async def whole(self) -> bytes:
        def read() -> bytes:
            if self.entry.is_folder:
                return b""
            data = b"".join(iter(lambda: os.read(self._fd, HELD_BYTES), b""))
            self._compare()
            return data

        found: bytes = await self._store._do(read)
        return found

    async def piece(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        """Short only if the file has become shorter; then it has changed."""
        found: bytes = await self._store._do(partial(os.pread, self._fd, size, start))
        if len(found) != size:
            raise Changed(f"pine://{self._store.name}/{show(self._key)} changed while it was read.")
        return found

    async def chunks(self) -> AsyncIterator[bytes]:
        at = 0
        while not self.entry.is_folder and (
            chunk := await self._store._do(partial(os.pread, self._fd, HELD_BYTES, at))
        ):
            at += len(chunk)
            yield chunk

    async def besides(self, keep: Keep) -> Extra:
        def look() -> Extra:
            mode = st.S_IMODE(os.fstat(self._fd).st_mode) & 0o777 if keep.permissions else None
            names = [n for n in os.listxattr(self._fd) if n.startswith("user.")] if keep.attributes else []
            return Extra(mode, {n: os.getxattr(self._fd, n) for n in names})

        found: Extra = await self._store._do(look)
        return found

    async def verify(self) -> None:
        await self._store._do(self._compare)

    def _compare(self) -> None:
        if not self.entry.is_folder and not same(entry_of(self._key, os.fstat(self._fd)), self.entry):
            raise Changed(f"pine://{self._store.name}/{show(self._key)} changed while it was read.")


class _Held:
    """A small file that was read whole, and was the same before and after."""

    def __init__(self, store: FolderStore, key: bytes, entry: Entry, body: bytes) -> None:
        self._store, self._key, self.entry, self._body = store, key, entry, body
        self.card: Card | None = None
        self.content_type, self.metadata = "", dict[str, str]()

    async def whole(self) -> bytes:
        return self._body

    async def piece(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        return self._body[start : start + size]

    async def chunks(self) -> AsyncIterator[bytes]:
        yield self._body

    async def besides(self, keep: Keep) -> Extra:
        if not (keep.permissions or keep.attributes):
            return Extra()
        opened = self._store._file(self._key)
        fd = await self._store._do(opened.__enter__)
        try:
            return await _File(self._store, self._key, fd, self.entry).besides(keep)
        finally:
            opened.__exit__(None, None, None)

    async def verify(self) -> None:
        now = (await self._store.stat(self._key)).entry
        if not same(now, self.entry):
            raise Changed(f"pine://{self._store.name}/{show(self._key)} changed while it was read.")


class _Link:
    """A link opened as what it is: its bytes are its text."""

    def __init__(self, store: FolderStore, key: bytes, entry: Entry, text: bytes) -> None:
        self._store, self._key, self.entry, self._text = store, key, entry, text
        self.card: Card | None = None
        self.content_type, self.metadata = "", dict[str, str]()

    async def whole(self) -> bytes:
        return self._text

    async def piece(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        return self._text[start : start + size]

    async def chunks(self) -> AsyncIterator[bytes]:
        yield self._text

    async def besides(self, keep: Keep) -> Extra:
        return Extra(link=True)

    async def verify(self) -> None:
        now = await self._store._do(lambda: self._store._link(self._key))
        if now is None or now[1] != self._text:
            raise Changed(f"pine://{self._store.name}/{show(self._key)} changed while it was read.")


def _open_beneath(root: int, path: bytes, flags: int) -> int:
    """Open an absolute path by the kernel's own rule that no link may lead out of `root` (Linux openat2, RESOLVE_BENEATH)."""
    top = os.readlink(f"/proc/self/fd/{root}").encode("utf-8", "surrogateescape")
    inner = os.path.relpath(path, top)
    how = struct.pack("QQQ", flags, 0, 0x08 | 0x02)
    fd = LIBC.syscall(ctypes.c_long(437), ctypes.c_int(root), inner, how, ctypes.c_size_t(len(how)))
    if fd < 0:
        number = ctypes.get_errno()
        raise OSError(errno.ELOOP if number == errno.EXDEV else number, os.strerror(number))
    return int(fd)


def _holds_itself(store: FolderStore, parts: tuple[bytes, ...], fd: int) -> bool:
    """Whether one of the folders above is this very one, reached again by a link."""
    here = os.fstat(fd)
    for i in range(len(parts)):
        with store._dir(parts[:i]) as above:
            found = os.fstat(above)
            if (found.st_dev, found.st_ino) == (here.st_dev, here.st_ino):
                return True
    return False


def _enter(fd: int, part: bytes, *, create: bool, beneath: str = "") -> int:
    """Open a folder in a folder; made, and its parent flushed, where that is wanted. beneath: links in there are followed."""
    try:
        if beneath and st.S_ISLNK(os.stat(part, dir_fd=fd, follow_symlinks=False).st_mode):
            root = os.open(beneath, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
            try:
                return _open_beneath(
                    root, os.readlink(f"/proc/self/fd/{fd}").encode() + b"/" + part, _DIR & ~os.O_NOFOLLOW
                )
            finally:
                os.close(root)
        return os.open(part, _DIR, dir_fd=fd)
    except FileNotFoundError:
        if not create:
            raise
        with contextlib.suppress(FileExistsError), folder_writing.holdable(part, fd):
            os.mkdir(part, dir_fd=fd)
        os.fsync(fd)
        return os.open(part, _DIR, dir_fd=fd)


def _names(fd: int, *, follow: bool) -> list[bytes]:
    """In byte order; those of folders end in `/`, and sort so."""
    with os.scandir(fd) as found:
        texts = [e.name + "/" if e.is_dir(follow_symlinks=follow) else e.name for e in found]
    return sorted("\0".join(texts).encode(_NAMES, "surrogateescape").split(b"\0")) if texts else []


def _folders_in(names: Sequence[bytes]) -> list[int]:
    """Where names of folders are: theirs alone have a slash."""
    return [n for n, name in enumerate(names) if name[-1] == _SLASH] if b"/" in b"".join(names) else []


def _some(found: Iterator[Sequence[Entry]]) -> list[Sequence[Entry]]:
    """As many pages as make the way to a thread and back worth it; none at the end."""
    pages, count, until = list[Sequence[Entry]](), 0, time.monotonic() + HOP_S
    for page in found:
        pages.append(page)
        count += len(page)
        if count >= HOP or time.monotonic() > until:
            break
    return pages


def _paged(found: Generator[Sequence[Entry], None, None]) -> Generator[Sequence[Entry], None, None]:
    """What comes in many small pieces in fewer; what comes in large ones as it is."""
    held: list[Entry] = []
    try:
        for some in found:
            if len(some) < ENOUGH:
                held += some
            if held and (len(some) >= ENOUGH or len(held) >= PAGE):
                yield held
                held = []
            if len(some) >= ENOUGH:
                yield some
        if held:
            yield held
    finally:
        found.close()


def _folder(key: bytes, found: os.stat_result) -> Entry:
    """A folder is there or not: its time changes with whatever is put into it."""
    return Entry(key, 0, None, etag="folder")


def _parts(prefix: bytes) -> tuple[bytes, ...]:
    parts = tuple(p for p in prefix.split(b"/") if p)
    if any(p in (b".", b"..") or b"\0" in p for p in parts):
        raise Unsafe(f"{show(prefix)}: '.', '..' and NUL have no place in a path.")
    return parts


def _must_be_safe(key: bytes, store: str) -> None:
    parts = key.split(b"/")
    if any(p in (b"", b".", b"..") or b"\0" in p or len(p) > 255 for p in parts) or len(key) > 4000:
        raise Unsafe(
            f"pine://{store}/{show(key)}: a folder can't hold this name (an empty part, '.', '..', NUL, a part over 255 "
            "bytes, or over 4,000 in all). It is left where it is; rename it at the source."
        )


_BY_ERRNO: dict[int, tuple[type[StoreError], str, str]] = {
    errno.ENOENT: (Missing, "store.missing", "There is no such file or folder."),
    errno.ENOTDIR: (Refused, "store.not-a-folder", "A part of the path is no folder, or is a link, which is not followed."),
    errno.ELOOP: (Unsafe, "not-a-file", "It is a link, which is not followed."),
    errno.EACCES: (Refused, "store.refused", "The service's account may not do that. Grant it the right."),
    errno.EPERM: (Refused, "store.refused", "The service's account may not do that. Grant it the right."),
    errno.EEXIST: (Taken, "store.not-as-planned", "Something is there that was not when this was planned."),
    errno.EISDIR: (Refused, "store.is-a-folder", "A folder stands where the file should be."),
    errno.ENOTEMPTY: (Refused, "store.is-a-folder", "A folder stands where the file should be."),
    errno.ENOSPC: (Refused, "store.full", "The disk is full. Make room, and try again."),
    errno.EDQUOT: (Refused, "store.full", "The quota is used up. Make room, and try again."),
    errno.EROFS: (Refused, "store.refused", "The disk is mounted read-only."),
    errno.ENAMETOOLONG: (Unsafe, "unsafe-name", "The name is too long for this folder."),
}  # fmt: skip


def _translated(exc: OSError, store: str) -> StoreError:
    kind, code, words = _BY_ERRNO.get(exc.errno or 0, (Busy, "store.busy", exc.strerror or "The disk gave an error."))
    named = show(os.fsencode(exc.filename)) if isinstance(exc.filename, str | bytes) else "folder"
    return kind(f"Store {store}, {named}: {words}", code=code)
