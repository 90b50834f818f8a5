"""How a file comes to be in a remote tree: under a hidden name beside its place, flushed, read
back, renamed. A large one is gone on with by offset, after what is there was read and compared.
"""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from datetime import UTC, datetime
from functools import partial

from pinecart.core.checksum import EMPTY, Crc64, crc_of
from pinecart.core.entries import Entry
from pinecart.core.errors import Busy, Corrupt, Missing, StoreError, Taken, Unsafe
from pinecart.core.ports import HELD_BYTES, Placed, Put, Reading, Uploads
from pinecart.drivers.busy_retries import BusyRetries
from pinecart.drivers.file_names import folder_entry, leads_out, must_be_safe
from pinecart.drivers.pieces import each_piece, piece_size
from pinecart.drivers.remote_tree.facts import TreeFacts, entry_of
from pinecart.drivers.remote_tree.folders import TreeFolders
from pinecart.drivers.remote_tree.links import TreeLinks
from pinecart.drivers.remote_tree.names import TreeNames
from pinecart.drivers.remote_tree.reading import KeptOpen, TreeReader
from pinecart.drivers.remote_tree.remote_files import (
    FileKind,
    FileLook,
    Given,
    How,
    RemoteFile,
    RemoteFiles,
)
from pinecart.drivers.remote_tree.renaming import CertainRenames

COMPARED = 1 << 20  # bytes of what is read back at a time


class TreeWriter:
    """reads_back: whether what was written is read again; else its size is all the proof."""

    def __init__(
        self,
        files: RemoteFiles,
        folders: TreeFolders,
        links: TreeLinks,
        reader: TreeReader,
        names: TreeNames,
        renames: CertainRenames,
        retries: BusyRetries,
        *,
        reads_back: bool,
    ) -> None:
        self._files, self._folders, self._links = files, folders, links
        self._reader, self._names, self._retries = reader, names, retries
        self._renames = renames
        self._reads_back = reads_back
        self._left: set[bytes] = set()  # hidden paths that could not be taken away
        self.facts = TreeFacts()

    async def put(self, put: Put) -> Placed:
        await self.clear_left()
        if put.key.endswith(b"/") and not put.size:
            return await self._put_folder(put)
        must_be_safe(put.key, self._files.name)
        await self._folders.enter(put.key.rpartition(b"/")[0], create=True)
        if put.extra.link and self._links.rule == "keep" and isinstance(put.body, bytes):
            return await self._put_link(put, put.body)
        if isinstance(put.body, bytes):
            return await self._put_small(put, put.body)
        return await self._put_in_pieces(put, put.body)

    async def _put_folder(self, put: Put) -> Placed:
        """Made if it isn't there; its permissions are set."""
        path = put.key[:-1]
        must_be_safe(path, self._files.name)
        await self._folders.enter(path, create=True)
        if put.extra.mode is not None:
            given = Given(mode=put.extra.mode)
            await self._retries.safely(lambda: self._files.set(path, given))
        return Placed(folder_entry(put.key), "read-back", guarded=False, crc=EMPTY)

    async def _put_link(self, put: Put, text: bytes) -> Placed:
        """A link as a link, if it leads to a place in this store. Raises Unsafe."""
        parents = tuple(put.key.split(b"/")[:-1])
        if leads_out(parents, text):
            message = (
                f"{self._reader.named(put.key)}: it is a link that leads out of the store. It was "
                "not made: whoever follows it would be elsewhere."
            )
            raise Unsafe(message, code="link-leads-out")
        async with self._hidden(put.key) as hidden:
            await self._links.make(hidden, text)
            placed = await self._name(put, hidden, put.card.crc)
            if await self._retries.safely(lambda: self._links.text(put.key)) != text:
                raise self._corrupt(put.key)
            return placed._replace(proof="read-back")

    async def _put_small(self, put: Put, body: bytes) -> Placed:
        given = _given(put)
        hidden = self._names.beside(put.key)
        try:
            back = await self._files.write_whole(hidden, body, given, read_back=self._reads_back)
            if back is not None and crc_of(back) != put.card.crc:
                raise self._corrupt(put.key)
            placed = await self._name(put, hidden, put.card.crc)
        except Missing as exc:
            self._folders.forget(put.key.rpartition(b"/")[0])
            message = f"{self._reader.named(put.key)}: its folder went away. It is tried again."
            raise Busy(message, code="store.busy") from exc
        except BaseException:
            await self._give_up(hidden)
            raise
        self._names.over(hidden)
        return placed

    @asynccontextmanager
    async def _hidden(self, key: bytes) -> AsyncIterator[bytes]:
        """A hidden path beside `key`, cleared where what is there didn't get its name."""
        hidden = self._names.beside(key)
        try:
            yield hidden
        except BaseException:
            await self._give_up(hidden)
            raise
        self._names.over(hidden)

    async def _give_up(self, hidden: bytes) -> None:
        self._left.add(hidden)
        with contextlib.suppress(StoreError):
            await self._clear(hidden)

    async def _clear(self, hidden: bytes) -> None:
        """One attempt: what can't be reached now is cleared before the next write."""
        with contextlib.suppress(Missing):
            await self._files.remove(hidden)
        self._left.discard(hidden)
        self._names.over(hidden)

    async def clear_left(self) -> None:
        for hidden in list(self._left):
            with contextlib.suppress(StoreError):
                await self._clear(hidden)

    async def _put_in_pieces(self, put: Put, source: Reading) -> Placed:
        step = piece_size(put.size)
        journal = put.uploads
        if journal is None:
            async with self._hidden(put.key) as hidden:
                crc = await self._fill(put, source, hidden, step)
                return await self._name(put, hidden, crc)
        part, had = await self._begun(put, journal, step)
        crc = await self._fill(put, source, part, step, had=had)
        try:
            placed = await self._name(put, part, crc)
        except Taken:
            await self._retries.safely(lambda: self._clear(part))
            await journal.over(put.key)
            raise
        await journal.over(put.key)
        return placed

    async def _begun(self, put: Put, journal: Uploads, step: int) -> tuple[bytes, int | None]:
        """The hidden path of the part file, and how many bytes it had when it was found; None: it
        is a new one.
        """
        token = f"{put.card.decision_id}/{put.size}/{step}"
        known = await journal.begun(put.key, token, datetime.now(UTC).isoformat())
        part = known.encode("utf-8", "surrogateescape")
        if known and self._names.is_resumable_of(part.rpartition(b"/")[2], put.key):
            with contextlib.suppress(Missing):
                found = await self._retries.safely(lambda: self._files.look(part))
                if found.kind is FileKind.FILE and found.size <= put.size:
                    return part, found.size
                await self._retries.safely(lambda: self._clear(part))
        part = self._names.resumable(put.key)
        await journal.named(put.key, part.decode("utf-8", "surrogateescape"))
        return part, None

    async def _fill(
        self, put: Put, source: Reading, part: bytes, step: int, *, had: int | None = None
    ) -> str:
        """The CRC of all of it, once it is there, flushed, and proven by reading it again."""
        how = How.MAKE if had is None else How.AGAIN
        kept = KeptOpen(self._files, part, how, self._retries)

        async def carry(_: int, start: int, size: int) -> str:
            crc = Crc64()
            for at in range(start, start + size, HELD_BYTES):
                length = min(HELD_BYTES, start + size - at)
                crc.add(await self._carry(put, source, kept, at, length, had=had or 0))
            return crc.text

        try:
            crc = await each_piece(put.size, step, carry)
            await source.verify(crc)
            await kept.do(lambda file: file.give(_given(put)))
            return crc
        finally:
            await kept.close()

    async def _carry(
        self, put: Put, source: Reading, kept: KeptOpen, at: int, length: int, *, had: int
    ) -> bytes:
        chunk = await source.piece(at, length)
        if at + length <= had and await _lies_there(kept, at, chunk):
            return chunk
        await kept.do(lambda file: file.write(at, chunk))
        if self._reads_back and not await _lies_there(kept, at, chunk):
            raise self._corrupt(put.key)
        return chunk

    async def _name(self, put: Put, hidden: bytes, crc: str) -> Placed:
        """The step that makes it visible; and what is seen there then."""
        guarded = False
        if put.if_absent:
            guarded = await self._renames.if_absent(hidden, put.key, put.size)
        else:
            if put.expected is not None:
                await self._must_still_be(put.key, put.expected)
            await self._renames.replace(hidden, put.key, put.size)
        if (kept_ns := self._certain_time(put)) is not None:
            return Placed(Entry(put.key, put.size, kept_ns), "read-back", guarded, crc)
        found = await self._seen_there(put)
        entry = entry_of(put.key, found, links=self._links.rule)
        is_link = found.kind is FileKind.LINK
        if not is_link and (entry.fault or found.size != put.size):
            raise self._corrupt(put.key)
        wanted, step_ns = put.card.modified_ns, self.facts.step_ns
        is_kept = wanted is None or is_link or _near(found, wanted, step_ns)
        proof = "read-back" if self._reads_back else "size-only"
        return Placed(entry, proof, guarded, crc, "" if is_kept else "its time")

    def _certain_time(self, put: Put) -> int | None:
        """The time that it has, where another look would tell nothing new: what was read back has
        this size, and this server was seen to keep a time that an open file was given.
        """
        wanted, facts = put.card.modified_ns, self.facts
        if wanted is None or put.extra.link or not self._reads_back:
            return None
        return self._files.kept_time(wanted) if facts.probed and facts.keeps_times else None

    async def _seen_there(self, put: Put) -> FileLook:
        """Some servers set the time of a file anew as it is closed: then it is given once more."""
        look = partial(self._files.look, put.key)
        found = await self._retries.safely(look)
        wanted = put.card.modified_ns
        if wanted is None or found.kind is not FileKind.FILE:
            return found
        if self.facts.keeps_times and not _near(found, wanted, self.facts.step_ns):
            await self._retries.safely(lambda: self._files.set(put.key, Given(wanted)))
            found = await self._retries.safely(look)
        return found

    async def _must_still_be(self, key: bytes, expected: Entry) -> None:
        """What is gone is not as planned either."""
        try:
            await self._reader.must_be_as(key, expected)
        except Missing as exc:
            raise Taken(exc.message) from exc

    async def clear_uploads(self, key: bytes) -> int:
        """Take away what is left of uploads of exactly this key."""
        folder = key.rpartition(b"/")[0]
        try:
            await self._folders.enter(folder)
            named = await self._retries.safely(lambda: self._files.names(folder))
        except Missing:
            return 0
        mine = [n.name for n in named if self._names.is_resumable_of(n.name, key)]
        for name in mine:
            path = folder + b"/" + name if folder else name
            await self._retries.safely(partial(self._clear, path))
        return len(mine)

    def _corrupt(self, key: bytes) -> Corrupt:
        return Corrupt(f"{self._reader.named(key)}: what was written does not read back the same.")


async def _read(start: int, size: int, file: RemoteFile) -> bytes:
    return await file.read(start, size)


async def _lies_there(kept: KeptOpen, start: int, chunk: bytes) -> bool:
    """Read some at a time: a second copy of each piece on its way would take as much memory."""
    view = memoryview(chunk)
    for at in range(0, len(chunk), COMPARED):
        part = view[at : at + COMPARED]
        there = await kept.do(partial(_read, start + at, len(part)))
        if len(there) != len(part) or crc_of(there) != crc_of(bytes(part)):
            return False
    return True


def _given(put: Put) -> Given:
    return Given(put.card.modified_ns, put.extra.mode)


def _near(found: FileLook, wanted_ns: int, step_ns: int) -> bool:
    return found.modified_ns is not None and abs(found.modified_ns - wanted_ns) < max(step_ns, 1)
