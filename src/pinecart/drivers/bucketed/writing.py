"""How an object comes to be in a store of buckets: in one request, or in parts."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import AsyncIterator
from typing import Protocol

from pinecart.core.checksum import Crc64, crc_of
from pinecart.core.errors import Changed, Corrupt
from pinecart.core.places import show
from pinecart.core.ports import Placed, Put, Reading
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import BucketClient
from pinecart.drivers.bucketed.multipart import MultipartUpload, PartProtocol, PartSums
from pinecart.drivers.http_message import Pieces
from pinecart.drivers.pieces import in_pieces, piece_size

HELD_PART = 16 << 20  # a larger part is never held


class WholeProtocol(Protocol):
    """How one kind of store takes an object in one request."""

    async def put(self, put: Put, body: bytes) -> Placed: ...


class ObjectWriter:
    """part: bytes of what is sent in parts; 0: by its size.   most_parts: of one object."""

    def __init__(
        self,
        client: BucketClient,
        facts: BucketFacts,
        whole: WholeProtocol,
        parts: PartProtocol,
        *,
        part: int = 0,
        most_parts: int = 10_000,
    ) -> None:
        self._client = client
        self._facts = facts
        self._whole = whole
        self._parts = parts
        self._part = part
        self._most_parts = most_parts

    async def put(self, put: Put) -> Placed:
        """One request; above HELD_BYTES in parts, several at once; the source is verified before
        they become one object.
        """
        body = put.body
        if isinstance(body, bytes):
            is_verified_there = self._verifies(put.key) == "crc64nvme"
            if not is_verified_there and crc_of(body) != put.card.crc:
                named = self._client.named(put.key)
                raise Corrupt(f"{named}: it is not what was read.")
            return await self._whole.put(put, body)
        source = _PartsOfReading(self, put.key, body)
        step = self._part or piece_size(put.size, self._most_parts)
        upload = MultipartUpload(self._client, self._parts, put, step, source, put.shares)
        return await upload.carry_out()

    async def put_part(self, key: bytes, upload: str, number: int, body: bytes) -> tuple[str, str]:
        """One part of an upload that was begun, numbered from 1. Its ETag and CRC."""
        md5 = md5_of(body) if self._verifies(key) == "md5" else b""
        return await self._sent(key, upload, number, body, PartSums(crc_of(body), md5))

    async def put_part_in_pieces(
        self, key: bytes, upload: str, number: int, source: Reading, start: int, size: int
    ) -> tuple[str, str]:
        """A part too large to be held is read twice: its sums go before it."""
        crc, md5, sha256 = await _sums(source, start, size)

        async def again() -> AsyncIterator[bytes]:
            """Its last piece only goes if all is as it was at the first reading."""
            now = Crc64()
            async for piece in in_pieces(source, start, size):
                now.add(piece)
                if now.size == size and now.text != crc:
                    raise Changed(f"{show(source.entry.key)} changed while it was read.")
                yield piece

        sums = PartSums(crc, md5, sha256.hex())
        return await self._sent(key, upload, number, Pieces(size, again), sums)

    def _verifies(self, key: bytes) -> str:
        return self._facts.able(self._client.split(key)[0]).checksum

    async def _sent(
        self, key: bytes, upload: str, number: int, body: bytes | Pieces, sums: PartSums
    ) -> tuple[str, str]:
        """The store's name for one part, and our checksum of it. What did not arrive as it was sent
        is sent some times more.
        """
        etag = await self._client.safely(
            lambda: self._parts.send(key, upload, number, body, sums), corrupted_too=True
        )
        return etag, sums.crc


class _PartsOfReading:
    """Parts of an opened source, which go through us."""

    def __init__(self, writer: ObjectWriter, key: bytes, source: Reading) -> None:
        self._writer = writer
        self._key = key
        self._source = source

    async def send(self, upload: str, number: int, start: int, size: int) -> tuple[str, str]:
        key = self._key
        writer = self._writer
        source = self._source
        if size > HELD_PART:
            send = writer.put_part_in_pieces
            return await send(key, upload, number, source, start, size)
        body = await source.piece(start, size)
        return await writer.put_part(key, upload, number, body)

    async def sums(self, start: int, size: int) -> tuple[str, str]:
        crc, md5, _ = await _sums(self._source, start, size)
        return crc, md5.hex()

    async def verify(self, crc: str) -> None:
        await self._source.verify(crc)


async def _sums(source: Reading, start: int, size: int) -> tuple[str, bytes, bytes]:
    """CRC, MD5 and SHA-256 of a range."""
    crc = Crc64()
    md5 = hashlib.md5(usedforsecurity=False)
    sha256 = hashlib.sha256()
    async for piece in in_pieces(source, start, size):
        crc.add(piece)
        md5.update(piece)
        sha256.update(piece)
    return crc.text, md5.digest(), sha256.digest()


def md5_of(body: bytes) -> bytes:
    return hashlib.md5(body, usedforsecurity=False).digest()


def md5_text(md5: bytes) -> str:
    """As a `Content-MD5` has it (RFC 1864)."""
    return base64.b64encode(md5).decode()
