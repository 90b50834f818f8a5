"""A large file written in pieces, several at once, under a hidden name that a later process finds:
what is there was read and compared before it is gone on with.
"""

from __future__ import annotations

import contextlib
from collections.abc import Awaitable, Callable
from datetime import UTC, datetime
from functools import partial

from pinecart.core.checksum import Crc64
from pinecart.core.errors import Corrupt, Missing, Taken
from pinecart.core.ports import HELD_BYTES, Placed, Put, Reading, Uploads
from pinecart.drivers.pieces import each_piece, piece_size
from pinecart.drivers.remote_tree.hidden_files import HiddenFiles
from pinecart.drivers.remote_tree.reading import KeptOpen
from pinecart.drivers.remote_tree.remote_files import FileKind, How, given_of
from pinecart.drivers.remote_tree.tree import Tree

COMPARED = 1 << 20  # bytes of what is read back at a time
Naming = Callable[[Put, bytes, str], Awaitable[Placed]]


class LargeByOffset:
    """named: gives a hidden path, whose content has this CRC, the name that was asked for."""

    def __init__(self, tree: Tree, hidden: HiddenFiles, named: Naming, *, reads_back: bool) -> None:
        """hidden: where unfinished files lie.   named: what gives a finished one its name.
        reads_back: whether what was written is compared.
        """
        self._files = tree.files
        self._names = tree.names
        self._retries = tree.retries
        self._reader = tree.reader
        self._hidden = hidden
        self._named = named
        self._reads_back = reads_back

    async def put(self, put: Put, source: Reading) -> Placed:
        step = piece_size(put.size)
        journal = put.uploads
        if journal is None:
            async with self._hidden.beside(put.key) as hidden:
                crc = await self._fill(put, source, hidden, step)
                return await self._named(put, hidden, crc)
        part, had = await self._begun(put, journal, step)
        crc = await self._fill(put, source, part, step, had=had)
        try:
            placed = await self._named(put, part, crc)
        except Taken:
            await self._retries.safely(lambda: self._hidden.clear(part))
            await journal.over(put.key)
            raise
        await journal.over(put.key)
        return placed

    async def _found(self, part: bytes, most: int) -> int | None:
        """The size of a part file that is there; what can't be one of this is cleared away."""
        with contextlib.suppress(Missing):
            found = await self._retries.safely(partial(self._files.look, part))
            if found.kind is FileKind.FILE and found.size <= most:
                return found.size
            await self._retries.safely(partial(self._hidden.clear, part))
        return None

    async def _begun(self, put: Put, journal: Uploads, step: int) -> tuple[bytes, int | None]:
        """The hidden path of the part file, and how many bytes it had when it was found; None: it
        is a new one.
        """
        token = f"{put.card.decision_id}/{put.size}/{step}"
        now = datetime.now(UTC).isoformat()
        known = await journal.begun(put.key, token, now)
        part = known.encode("utf-8", "surrogateescape")
        name = part.rpartition(b"/")[2]
        if known and self._names.is_resumable_of(name, put.key):
            size = await self._found(part, put.size)
            if size is not None:
                return part, size
        part = self._names.resumable(put.key)
        told = part.decode("utf-8", "surrogateescape")
        await journal.named(put.key, told)
        return part, None

    async def _fill(
        self, put: Put, source: Reading, part: bytes, step: int, *, had: int | None = None
    ) -> str:
        """The CRC of all of it, once it is there, flushed, and proven by reading it again."""
        how = How.MAKE if had is None else How.AGAIN
        kept = KeptOpen(self._files, part, how, self._retries)

        async def carry(_: int, start: int, size: int) -> str:
            """One part, in blocks that are held in memory one at a time, gives its checksum."""
            crc = Crc64()
            end = start + size
            for at in range(start, end, HELD_BYTES):
                length = min(HELD_BYTES, end - at)
                chunk = await self._carry(put, source, kept, at, length, had=had or 0)
                crc.add(chunk)
            return crc.text

        try:
            crc = await each_piece(put.size, step, carry, at_once=self._files.pieces)
            await source.verify(crc)
            await kept.do(lambda file: file.give(given_of(put)))
            return crc
        finally:
            await kept.close()

    async def _carry(
        self, put: Put, source: Reading, kept: KeptOpen, at: int, length: int, *, had: int
    ) -> bytes:
        """had: so many bytes of it were found, which are compared first."""
        chunk = await source.piece(at, length)
        was_there = at + length <= had
        if was_there and await _lies_there(kept, at, chunk):
            return chunk
        await kept.do(lambda file: file.write(at, chunk))
        if self._reads_back and not await _lies_there(kept, at, chunk):
            message = self._reader.differs(put.key)
            raise Corrupt(message)
        return chunk


async def _lies_there(kept: KeptOpen, start: int, chunk: bytes) -> bool:
    """Read some at a time: a second copy of each piece on its way would take as much memory."""
    view = memoryview(chunk)
    for at in range(0, len(chunk), COMPARED):
        part = bytes(view[at : at + COMPARED])
        if await kept.read(start + at, len(part)) != part:
            return False
    return True
