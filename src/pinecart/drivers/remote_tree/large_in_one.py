"""A large file sent in one request, under a hidden name, and read back in pieces."""

from __future__ import annotations

from collections.abc import AsyncIterator
from typing import cast

from pinecart.core.checksum import Crc64
from pinecart.core.errors import Corrupt
from pinecart.core.ports import HELD_BYTES, Placed, Put, Reading, Room
from pinecart.drivers.pieces import each_piece, in_pieces, piece_size
from pinecart.drivers.remote_tree.hidden_files import HiddenFiles
from pinecart.drivers.remote_tree.large_by_offset import Naming
from pinecart.drivers.remote_tree.reading import KeptOpen
from pinecart.drivers.remote_tree.remote_files import How, WritesInOne, given_of
from pinecart.drivers.remote_tree.tree import Tree


class LargeInOne:
    """Where a protocol can't write by offset: what a kill cut is sent again."""

    def __init__(self, tree: Tree, hidden: HiddenFiles, named: Naming, *, reads_back: bool) -> None:
        """For servers that take a file only in one request, from its beginning to its end."""
        self._files = tree.files
        self._retries = tree.retries
        self._reader = tree.reader
        self._hidden = hidden
        self._named = named
        self._reads_back = reads_back

    @property
    def _server(self) -> WritesInOne:
        return cast("WritesInOne", self._files)

    async def put(self, put: Put, source: Reading) -> Placed:
        async with self._hidden.beside(put.key) as hidden:
            sent = Crc64()

            async def chunks() -> AsyncIterator[bytes]:
                nonlocal sent
                sent = Crc64()
                async for piece in in_pieces(source, 0, put.size):
                    sent.add(piece)
                    yield piece

            await self._server.write_stream(hidden, put.size, chunks, given_of(put))
            await source.verify(sent.text)
            if self._reads_back and await self.crc_of(hidden, put.size) != sent.text:
                raise Corrupt(self._reader.differs(put.key))
            return await self._named(put, hidden, sent.text)

    async def crc_of(self, path: bytes, size: int) -> str:
        """Of what lies there; empty where it has another size."""
        kept = KeptOpen(self._files, path, How.READ, self._retries)
        rooms: list[Room] = []

        async def one(_: int, start: int, length: int) -> str:
            """Of one piece; rooms to read into are used again."""
            crc = Crc64()
            end = start + length
            room = rooms.pop() if rooms else Room(HELD_BYTES)
            for at in range(start, end, HELD_BYTES):
                some = min(HELD_BYTES, end - at)
                chunk = await kept.read(at, some, room)
                crc.add(chunk)
            rooms.append(room)
            return crc.text

        try:
            found = await kept.do(lambda file: file.look())
            if found.size != size:
                return ""
            return await each_piece(size, piece_size(size), one)
        finally:
            await kept.close()
