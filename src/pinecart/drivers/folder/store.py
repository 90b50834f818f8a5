"""Folders of this machine. Every path is hostile: `root` opens it part by part.

A file is written under a hidden name in its own folder, flushed, renamed, and its folder flushed.
All work on the disk is done in threads, one hop for a small file.
"""

from __future__ import annotations

import asyncio
import bisect
import contextlib
import errno
import itertools
import os
import re
import stat as st
import time
from array import array
from collections.abc import AsyncIterator, Collection, Iterator, Mapping, Sequence
from contextlib import asynccontextmanager
from functools import partial
from typing import Any

from pinecart.core.checksum import EMPTY, Crc64
from pinecart.core.entries import LINK, Entry, Likeness, fingerprint, likeness, same
from pinecart.core.errors import Changed, Corrupt, Taken, Unsafe
from pinecart.core.folding import EXACT
from pinecart.core.places import show
from pinecart.core.ports import (
    HELD_BYTES,
    Abilities,
    Level,
    Placed,
    Put,
    Reading,
    Stat,
    Store,
    Uploads,
)
from pinecart.drivers.folder import names as folder_names
from pinecart.drivers.folder import writing as folder_writing
from pinecart.drivers.folder.reading import File, HeldFile, Link
from pinecart.drivers.folder.root import (
    FILE,
    FolderRoot,
    Pin,
    folder_entry,
    is_gone,
    leads_out,
    must_be_safe,
    parts_of,
    translated,
    why_unsafe,
)
from pinecart.drivers.folder.walking import Walk, names_again, some_names, some_pages
from pinecart.drivers.folder.writing import (
    SMALL_WRITE,
    Batches,
    Begin,
    FolderWriting,
    Parents,
    entry_of,
    give,
    is_as_it_was,
    write_together,
)
from pinecart.drivers.pieces import each_piece, piece_size

SMALL = 64 << 10  # up to here a file is read at once, where the kernel has it in memory
# for one file read on the event loop; threads that wait for each other make some as slow on any
# disk …
SLOW_S = 0.002
MOSTLY = 100  # … but not so many: each counts four, each quick one takes one back


class FolderStore:
    """path: the root.   fsid: the file system's id when the store was registered; 0: not
    remembered.

    forbidden: (device, inode) of folders that are never entered, the state folder first of all.
    links: what becomes of symbolic links: "refuse" (listed), "skip", "follow" (inside the root),
    "keep" (as links). marker: name of a file in the root without which it is taken for another
    disk. read_back: whether every file is read from the disk after it is written; else its size is
    all the proof. run: tag for hidden names; files of this very run that an interrupted process
    left are cleared as they are listed.
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
        self._root = FolderRoot(name, path, Pin(), fsid, forbidden, links, marker)
        self._reads_back = read_back
        self.most_at_once = 0
        self._parent: tuple[bytes, int] | None = None
        self._slowness = 0  # of such readings lately
        self._slow_left = 0  # so many more files are read by threads
        self._ours = re.compile(
            rb"\.pinecart-" + re.escape(run.encode()) + rb"-\d+-\d+(-.+)?\.part"
        )
        self._habits: folder_names.Habits | None = None
        self._wrote, self._wrote_sorted = (
            array("Q"),
            True,
        )  # inodes of the files that got their names by this store
        self._batches = Batches(self._parents)
        self._run, self._numbers = run, itertools.count(1)

    @classmethod
    def from_spec(cls, spec: Mapping[str, Any]) -> FolderStore:
        forbidden = frozenset((d, i) for d, i in spec.get("forbidden", ()))
        links, run = spec.get("links") or "refuse", str(spec.get("run", 0))
        marker, read_back = spec.get("marker") or "", spec.get("read_back", "yes") != "no"
        store = cls(
            spec["name"],
            spec["path"],
            fsid=spec.get("fsid") or 0,
            forbidden=forbidden,
            run=run,
            links=links,
            marker=marker,
            read_back=read_back,
        )
        store.most_at_once = int(spec.get("most_at_once") or 0)
        return store

    async def abilities(self, prefix: bytes) -> Abilities:
        if self._habits is not None:
            return self._able(prefix, may_write=False)
        return await self._root.do(lambda: self._able(prefix, may_write=False))

    def learned(self) -> dict[str, Any]:
        return {}

    def unfit(self, key: bytes) -> str:
        return why_unsafe(key.removesuffix(b"/"), self.name)

    @property
    def rests_s(self) -> float:
        return 0.0

    def rest(self, seconds: float) -> None:
        """A disk asks for no pause."""

    async def probe(self, prefix: bytes, journal: Uploads | None = None) -> Abilities:
        return await self._root.do(lambda: self._able(prefix, may_write=True))

    def _able(self, prefix: bytes, *, may_write: bool) -> Abilities:
        if self._habits is None or (may_write and not self._habits.asked):
            self._habits = self._asked(parts_of(prefix)) if may_write else self._seen(prefix)
        folding, step_ns, _ = self._habits
        return Abilities(
            create_only=True,
            has_folders=True,
            keeps_times=True,
            at_hand=True,
            folding=folding,
            time_step_ns=step_ns,
        )

    def _asked(self, parts: tuple[bytes, ...]) -> folder_names.Habits:
        """By two names of our own in the folder, or in the nearest one above that is there."""
        try:
            with self._root.folder(parts) as fd:
                return folder_names.by_scratch(fd, self._hidden().removesuffix(b".part") + b"-")
        except OSError as exc:
            if parts and isinstance(exc, FileNotFoundError):
                return self._asked(parts[:-1])
            return self._seen(b"/".join(parts))._replace(
                asked=True
            )  # nothing can be written there: the names tell what they can

    def _seen(self, prefix: bytes) -> folder_names.Habits:
        return folder_names.Habits(folder_names.by_names(some_names(self._root, parts_of(prefix))))

    def identity(self, prefix: bytes) -> str:
        return f"folder:{self._root.fsid}:{self._root.path}/{show(prefix)}"

    async def check_place(self, prefix: bytes) -> None:
        def look() -> None:
            with self._root.folder(()) as fd:
                self._root.must_be_the_same(fd)

        await self._root.do(look)

    # --- looking

    async def list(
        self, prefix: bytes, *, after: bytes = b"", folders: str = ""
    ) -> AsyncIterator[Sequence[Entry]]:
        found = Walk(self._root, self._ours, folders=folders, after=after).pages(parts_of(prefix))
        try:
            while pages := await self._root.do(partial(some_pages, found)):
                for page in pages:
                    yield page
        finally:
            await asyncio.to_thread(found.close)

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Level:
        def look() -> Level:
            with self._root.folder(parts_of(prefix)) as fd:
                names = names_again(fd, follow=self._root.links == "follow")
                start = bisect.bisect_right(names, after)
                page = names[start : start + limit]
                walk = Walk(self._root, self._ours)
                entries = [walk.listed(fd, n, n) for n in page if not n.endswith(b"/")]
                more = page[-1] if len(names) > start + limit else b""
                return Level([n for n in page if n.endswith(b"/")], [e for e in entries if e], more)

        return await self._root.do(look)

    async def stat(self, key: bytes, version: str = "") -> Stat:
        """A file below what is a file itself is definitely not there."""

        def look() -> Entry:
            try:
                return self._root.entry(key)
            except OSError as exc:
                if exc.errno != errno.ENOENT and is_gone(
                    exc, self._root, parts_of(key.rpartition(b"/")[0])
                ):
                    raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), key) from exc
                raise

        return Stat(await self._root.do(look))

    # --- reading

    def open(
        self, key: bytes, expected: Entry | None = None, *, version: str = ""
    ) -> contextlib.AbstractAsyncContextManager[Reading]:
        small = (
            expected is not None
            and expected.size <= SMALL
            and not (expected.is_link or key.endswith(b"/"))
        )
        if small and (held := self._at_once(key)) is not None:
            return contextlib.nullcontext(held)
        return self._opened(key, expected, small=small)

    @asynccontextmanager
    async def _opened(
        self, key: bytes, expected: Entry | None, *, small: bool
    ) -> AsyncIterator[Reading]:
        if small and (held := await self._root.do(partial(self._in_one_hop, key))) is not None:
            yield held
            return
        link = (
            await self._root.do(lambda: self._root.link(key))
            if expected is not None and expected.is_link
            else None
        )
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
                folder_entry(key, found) if key.endswith(b"/") else entry_of(key, found),
            )
        finally:
            opened.__exit__(None, None, None)

    def _at_once(self, key: bytes) -> HeldFile | None:
        """A small file that the kernel has in memory is read here and now: a thread would cost more
        than the reading.

        None: it isn't, or the disk was slow lately; then a thread does it. Links are never followed
        this way.
        """
        if self._root.links == "follow" or self._slow_left:
            self._slow_left = max(self._slow_left - 1, 0)
            return None
        began = time.perf_counter()
        fd = -1
        try:
            must_be_safe(key, self.name)
            folder, _, name = key.rpartition(b"/")
            fd = os.open(name, FILE, dir_fd=self._parent_of(folder))
            before = os.fstat(fd)
            if not st.S_ISREG(before.st_mode) or before.st_size > SMALL:
                return None
            room = bytearray(before.st_size)
            got = os.preadv(fd, [room], 0, os.RWF_NOWAIT)
            if got != before.st_size or not is_as_it_was(before, os.fstat(fd)):
                return None
            return HeldFile(self._root, key, entry_of(key, before), bytes(room))
        except (
            OSError,
            Unsafe,
        ):  # not in memory, or an error: the usual way finds out which, and tells it
            return None
        finally:
            if fd >= 0:
                os.close(fd)
            self._slowness = (
                self._slowness + 4
                if time.perf_counter() - began > SLOW_S
                else max(self._slowness - 1, 0)
            )
            if self._slowness > MOSTLY:
                self._slow_left, self._slowness = 1000, 0

    def _in_one_hop(self, key: bytes) -> HeldFile | None:
        """A small file read from the disk.

        None: it is none, or is being changed; the usual way finds out, and tells it.
        """
        with self._root.file(key) as fd:
            before = os.fstat(fd)
            if before.st_size > SMALL:
                return None
            body = b"".join(iter(lambda: os.read(fd, SMALL + 1), b""))
            if len(body) != before.st_size or not is_as_it_was(before, os.fstat(fd)):
                return None
            return HeldFile(self._root, key, entry_of(key, before), body)

    def _parent_of(self, folder: bytes) -> int:
        """A descriptor of the folder in which the last file was as well, or of another one; at most
        this one is kept open.
        """
        if self._parent is None or self._parent[0] != folder:
            self._drop_parent()
            with self._root.folder(parts_of(folder)) as fd:
                self._parent = (folder, os.dup(fd))
        return self._parent[1]

    def _drop_parent(self) -> None:
        if self._parent is not None:
            os.close(self._parent[1])
            self._parent = None

    # --- writing

    async def put(self, put: Put) -> Placed:
        if put.key.endswith(b"/") and not put.size:
            return await self._put_folder(put)
        must_be_safe(put.key, self.name)
        if put.extra.link and self._root.links == "keep" and isinstance(put.body, bytes):
            return await self._put_link(put, put.body)
        if isinstance(put.body, bytes):
            body = put.body
            return await self._write(
                lambda parents: (self._begun(put, body, parents), put.card.crc), put.size
            )
        source = put.body
        with self._parents() as parents:
            return await self._put_in_pieces(put, source, parents)

    async def _put_in_pieces(self, put: Put, source: Reading, parents: Parents) -> Placed:
        writing = await self._root.do(
            lambda: FolderWriting(
                self.name, put, parents, self._hidden(), self._same, read_back=self._reads_back
            )
        )

        spare: list[
            bytearray
        ] = []  # used again and again: fresh memory of this size is mapped page by page each time

        async def carry(_: int, start: int, size: int) -> str:
            crc, room = Crc64(), spare.pop() if spare else bytearray(HELD_BYTES)
            for at in range(start, start + size, HELD_BYTES):
                chunk = await source.piece(at, min(HELD_BYTES, start + size - at), room)
                crc.add(chunk)
                await self._root.do(partial(writing.add_at, chunk, at))
            spare.append(room)
            return crc.text

        try:
            crc = await each_piece(put.size, piece_size(put.size), carry)
            await source.verify(crc)
            placed: Placed = await self._root.do(lambda: writing.finish(crc))
            return self._is_ours(placed)
        finally:
            await asyncio.to_thread(writing.drop)

    async def _put_folder(self, put: Put) -> Placed:
        """Made if it isn't there; its permissions, attributes and time are set."""
        must_be_safe(put.key[:-1], self.name)

        def work() -> Placed:
            with self._root.folder(parts_of(put.key), create=True) as fd:
                give(fd, put)
                os.fsync(fd)
                return Placed(
                    folder_entry(put.key, os.fstat(fd)), "read-back", guarded=False, crc=EMPTY
                )

        placed: Placed = await self._root.do(work)
        return placed

    async def _put_link(self, put: Put, text: bytes) -> Placed:
        """A link as a link, if it leads to a place in this store. Raises Unsafe."""
        *parents, name = put.key.split(b"/")
        if leads_out(tuple(parents), text):
            message = (
                f"pine://{self.name}/{show(put.key)}: it is a link that leads out of the store, "
                f"to {show(text)}. It was not made: whoever follows it would be elsewhere."
            )
            raise Unsafe(message, code="link-leads-out")

        def work() -> Placed:
            with self._root.folder(tuple(parents), create=True) as parent:
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
                placed = entry_of(
                    put.key, os.stat(name, dir_fd=parent, follow_symlinks=False)
                )._replace(kind=LINK)
                if os.readlink(name, dir_fd=parent) != text:
                    raise Corrupt(
                        f"pine://{self.name}/{show(put.key)}: the link does not read back the same."
                    )
                return Placed(placed, "read-back", guarded=guarded, crc=put.card.crc)

        placed: Placed = await self._root.do(work)
        return placed

    def copies_from(self, source: Store) -> bool:
        return isinstance(source, FolderStore)

    async def copy(
        self, put: Put, source: Store, source_key: bytes, entry: Entry, version: str = ""
    ) -> Placed | None:
        """Between two folders of this machine the kernel copies; both sides are read for their
        checksums.
        """
        if not isinstance(source, FolderStore) or entry.is_link:
            return None
        if put.key.endswith(b"/"):
            return await self._put_folder(put)
        must_be_safe(put.key, self.name)

        def begin(parents: Parents) -> tuple[FolderWriting, str]:
            with source._root.file(source_key) as fd:
                opened = entry_of(b"", os.fstat(fd))
                with self._writing(put, parents) as writing:
                    crc = writing.copy_from(fd, opened.size)
                    now = entry_of(b"", os.fstat(fd))
                    if not (same(now, opened) and same(now, entry)):
                        raise Changed(
                            f"pine://{source.name}/{show(source_key)} changed while it was read."
                        )
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
            raise translated(exc, self.name) from exc
        return self._is_ours(found)

    def wrote(self, entry: Entry) -> None:
        self._wrote.append(entry.inode)
        self._wrote_sorted = False

    def _is_ours(self, placed: Placed) -> Placed:
        self.wrote(placed.entry)
        return placed

    def _must_not_be_ours(self, key: bytes, expected: Entry) -> None:
        """What was written a moment ago is never taken away, under whatever name it seems to be
        another file.
        """
        if not self._wrote_sorted:
            self._wrote, self._wrote_sorted = array("Q", sorted(self._wrote)), True
        at = bisect.bisect_left(self._wrote, expected.inode)
        if at < len(self._wrote) and self._wrote[at] == expected.inode:
            message = (
                f"pine://{self.name}/{show(key)} is a file that this very run has put there. It "
                "was left alone."
            )
            raise Taken(message, code="written-by-this-run")

    def _hidden(self) -> bytes:
        return f".pinecart-{self._run}-{os.getpid()}-{next(self._numbers)}.part".encode()

    def _parents(self) -> Parents:
        return Parents(partial(self._root.folder, create=True))

    def _begun(self, put: Put, body: bytes, parents: Parents) -> FolderWriting:
        with self._writing(put, parents) as writing:
            writing.add_at(body, 0)
            return writing

    @contextlib.contextmanager
    def _writing(self, put: Put, parents: Parents) -> Iterator[FolderWriting]:
        """A file with its bytes, permissions and time; cleared away if that fails."""
        writing = FolderWriting(
            self.name, put, parents, self._hidden(), self._same, read_back=self._reads_back
        )
        try:
            yield writing
            writing.give()
        except BaseException:
            writing.drop()
            raise

    # --- removing

    def home(self, prefix: bytes) -> bytes:
        return b""

    async def is_absent(self, key: bytes) -> bool:
        *parents, name = key.removesuffix(b"/").split(b"/")

        def look() -> bool:
            with self._root.folder(()) as root:
                self._root.must_be_the_same(root)
            if self.unfit(key):
                return True  # no file of a folder has such a name
            try:
                with self._root.folder(tuple(parents)) as parent:
                    found = os.stat(name, dir_fd=parent, follow_symlinks=False)
            except OSError as exc:
                if not is_gone(exc, self._root, tuple(parents)):
                    raise
                return True
            return st.S_ISDIR(found.st_mode) != key.endswith(
                b"/"
            )  # a folder is no file; a link on the way is an error

        found: bool = await self._root.do(look)
        return found

    async def move(self, key: bytes, to: bytes, expected: Entry) -> Entry:
        """A rename, looked at again afterwards, and put back if it was another file after all."""
        if key.endswith(b"/"):
            return await self._without_a_copy(key, expected)
        must_be_safe(to, self.name)
        *parents, name = key.split(b"/")
        *new_parents, new = to.split(b"/")
        self._must_not_be_ours(key, expected)

        def work() -> Entry:
            with (
                self._root.folder(tuple(parents)) as here,
                self._root.folder(tuple(new_parents), create=True) as there,
            ):
                self._must_be_as(here, name, key, expected)
                folder_writing.rename_if_absent(here, name, there, new)
                found = os.stat(new, dir_fd=there, follow_symlinks=False)
                moved = entry_of(to, found)
                if likeness(moved, fingerprint(expected)) is Likeness.DIFFERENT:
                    folder_writing.rename_if_absent(there, new, here, name)
                    raise Taken(
                        f"pine://{self.name}/{show(key)} changed while it was moved, and was "
                        "put back."
                    )
                for fd in (there, here):
                    os.fsync(fd)
                return moved

        moved: Entry = await self._root.do(work)
        return moved

    async def _without_a_copy(self, key: bytes, expected: Entry) -> Entry:
        """An empty folder is taken away; there is nothing to keep of it."""
        await self.remove(key, expected)
        return expected

    async def remove(self, key: bytes, expected: Entry) -> bool:
        *parents, name = key.removesuffix(b"/").split(b"/")
        self._must_not_be_ours(key, expected)

        def work() -> bool:
            with self._root.folder(tuple(parents)) as parent:
                if key.endswith(b"/"):
                    with contextlib.suppress(
                        OSError
                    ):  # no longer empty: then it is no empty folder to remove
                        os.rmdir(name, dir_fd=parent)
                    return False
                self._must_be_as(parent, name, key, expected)
                os.unlink(name, dir_fd=parent)
                os.fsync(parent)
            return False

        guarded: bool = await self._root.do(work)
        return guarded

    async def tidy(self, prefix: bytes, key: bytes) -> None:
        least, parts = len(parts_of(prefix)), key.split(b"/")[:-1]

        def work() -> None:
            while len(parts) > least:
                *above, last = parts
                try:
                    with self._root.folder(tuple(above)) as parent:
                        os.rmdir(last, dir_fd=parent)
                except OSError:  # not empty, or gone already
                    return
                parts.pop()

        await self._root.do(work)

    def _must_be_as(self, parent: int, name: bytes, key: bytes, expected: Entry) -> None:
        found = os.stat(name, dir_fd=parent, follow_symlinks=False)
        regular = st.S_ISREG(found.st_mode) or (expected.is_link and st.S_ISLNK(found.st_mode))
        if not regular or not self._same(found, expected):
            raise Taken(
                f"pine://{self.name}/{show(key)} is not as it was when this was planned. It "
                "was left alone."
            )

    def _same(self, found: os.stat_result, expected: Entry) -> bool:
        """The very file.

        Where names fold, some file systems give each spelling of a name an inode of its own.
        """
        if self._habits and self._habits.folding != EXACT:
            expected = expected._replace(inode=found.st_ino)
        return same(entry_of(b"", found), expected)

    async def sweep(self, prefixes: Collection[bytes]) -> None:
        def work() -> None:
            for prefix in prefixes:
                with (
                    contextlib.suppress(OSError, Unsafe),
                    self._root.folder(parts_of(prefix)) as fd,
                ):
                    for name in [n for n in os.listdir(fd) if self._ours.fullmatch(os.fsencode(n))]:
                        with contextlib.suppress(FileNotFoundError):
                            os.unlink(name, dir_fd=fd)

        await self._root.do(work)

    def waits_for(self) -> str:
        return ""

    async def close(self) -> None:
        self._drop_parent()

    # --- descriptors
