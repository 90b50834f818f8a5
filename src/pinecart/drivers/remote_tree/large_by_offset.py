"""A large file written in pieces, several at once, under a hidden name that a later process finds:
what is there was read and compared before it is gone on with.
"""

from __future__ import annotations

import contextlib
from collections.abc import Awaitable, Callable
from datetime import UTC, datetime

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
        self._files, self._names, self._retries = tree.files, tree.names, tree.retries
        self._reader, self._hidden, self._named = tree.reader, hidden, named
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
                await self._retries.safely(lambda: self._hidden.clear(part))
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
            crc = await each_piece(put.size, step, carry, at_once=self._files.pieces)
            await source.verify(crc)
            await kept.do(lambda file: file.give(given_of(put)))
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
            raise Corrupt(self._reader.differs(put.key))
        return chunk


async def _lies_there(kept: KeptOpen, start: int, chunk: bytes) -> bool:
    """Read some at a time: a second copy of each piece on its way would take as much memory."""
    view = memoryview(chunk)
    for at in range(0, len(chunk), COMPARED):
        part = bytes(view[at : at + COMPARED])
        if await kept.read(start + at, len(part)) != part:
            return False
    return True
