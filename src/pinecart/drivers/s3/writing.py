"""How an object comes to be in an S3-compatible store: in one request, or in parts."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import AsyncIterator, Awaitable
from datetime import datetime

from pinecart.core.checksum import Crc64, crc_of
from pinecart.core.entries import Entry
from pinecart.core.errors import Changed
from pinecart.core.places import show
from pinecart.core.ports import Placed, Put, Reading
from pinecart.drivers.http_message import HttpAnswer, Pieces
from pinecart.drivers.pieces import in_pieces, piece_size
from pinecart.drivers.s3.bucket_facts import BucketFacts
from pinecart.drivers.s3.client import Query, S3Client
from pinecart.drivers.s3.conditional import ConditionalWrites
from pinecart.drivers.s3.multipart import MultipartUpload
from pinecart.drivers.s3.signing import UNSIGNED
from pinecart.drivers.s3.sizes import HELD_PART, Sizes
from pinecart.drivers.s3.wire import parse_uploads


class ObjectWriter:
    """Writes under conditions."""

    def __init__(
        self, client: S3Client, facts: BucketFacts, writes: ConditionalWrites, sizes: Sizes
    ) -> None:
        self._client = client
        self._facts = facts
        self._writes = writes
        self._sizes = sizes

    async def put(self, put: Put) -> Placed:
        """One request; above HELD_BYTES in parts."""
        if not isinstance(put.body, bytes):
            return await self._put_in_parts(put, put.body)
        bucket, name = self._client.split(put.key)
        body = put.body
        headers, proof = self._writes.kept_headers(put), "server-verified"
        headers["content-length"] = str(put.size)
        verifies = self._facts.able(bucket).checksum
        if verifies == "crc64nvme":
            headers["x-amz-checksum-crc64nvme"] = put.card.crc
        elif verifies == "md5":
            headers["content-md5"] = md5_of(body)
        else:
            proof = "size-only"

        def send(condition: dict[str, str]) -> Awaitable[HttpAnswer]:
            return self._client.ask(
                "PUT",
                bucket,
                name,
                headers=headers | condition,
                body=body,
                payload=self._client.signed_payload(body),
            )

        answer, guarded = await self._writes.conditionally(put, send)
        etag = await self._writes.etag(put.key, answer.headers.get("ETag", ""))
        if proof == "size-only":
            await self._writes.must_have_size(put)
        return Placed(
            Entry(put.key, put.size, None, etag),
            proof,
            guarded,
            put.card.crc,
            await self._writes.lost(put),
        )

    async def _put_in_parts(self, put: Put, source: Reading) -> Placed:
        """Parts of the source, several at once; the source is verified before they become one
        object.
        """
        upload = MultipartUpload(
            self._client,
            self._writes,
            put,
            self._sizes.part or piece_size(put.size),
            _PartsOfReading(self, put.key, source),
            sums=self._facts.able(self._client.split(put.key)[0]).checksum,
            shares=put.shares,
        )
        return await upload.carry_out()

    async def put_part(self, key: bytes, upload: str, number: int, body: bytes) -> tuple[str, str]:
        """One part of an upload that was begun, numbered from 1. Its ETag and CRC."""
        bucket, _ = self._client.split(key)
        able = self._facts.able(bucket)
        md5 = md5_of(body) if able.checksum == "md5" else ""
        crc = crc_of(body)
        signed = self._client.signed_payload(body)
        return await self._part(key, upload, number, body, crc, md5, signed)

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

        body = Pieces(size, again)
        payload = sha256.hex() if self._client.signs_payload else UNSIGNED
        return await self._part(
            key, upload, number, body, crc, base64.b64encode(md5).decode(), payload
        )

    async def _part(
        self,
        key: bytes,
        upload: str,
        number: int,
        body: bytes | Pieces,
        crc: str,
        md5: str,
        payload: str,
    ) -> tuple[str, str]:
        bucket, name = self._client.split(key)
        headers = {"content-length": str(len(body))}
        if self._facts.able(bucket).checksum == "crc64nvme":
            headers["x-amz-checksum-crc64nvme"] = crc
        elif self._facts.able(bucket).checksum == "md5":
            headers["content-md5"] = md5
        query: Query = [("partNumber", str(number)), ("uploadId", upload)]
        answer = await self._client.safely(
            lambda: self._client.good(
                "PUT",
                bucket,
                name,
                query=query,
                headers=headers,
                body=body,
                payload=payload,
                what=f"Writing part {number} of {self._client.named(key)}",
            ),
            corrupted_too=True,
        )
        return answer.headers.get("ETag", ""), crc

    async def clear_uploads(self, key: bytes, since: str) -> int:
        """Raises StoreError where it can't be told that none is left."""
        bucket, name = self._client.split(key)
        what = f"Looking for unfinished uploads of {self._client.named(key)}"
        answer = await self._client.safely(
            lambda: self._client.good(
                "GET",
                bucket,
                query=[("uploads", ""), ("prefix", name), ("encoding-type", "url")],
                what=what,
            )
        )
        ours = [
            u
            for u, k, at in parse_uploads(answer.body)
            if k == name and at >= datetime.fromisoformat(since)
        ]
        for upload in ours:
            await self._writes.abort(bucket, name, upload)
        return len(ours)


class _PartsOfReading:
    """Parts of an opened source, which go through us."""

    def __init__(self, writer: ObjectWriter, key: bytes, source: Reading) -> None:
        self._writer, self._key, self._source = writer, key, source

    async def send(self, upload: str, number: int, start: int, size: int) -> tuple[str, str]:
        writer, source = self._writer, self._source
        if size > HELD_PART:
            return await writer.put_part_in_pieces(self._key, upload, number, source, start, size)
        body = await source.piece(start, size)
        return await writer.put_part(self._key, upload, number, body)

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


def md5_of(body: bytes) -> str:
    return base64.b64encode(hashlib.md5(body, usedforsecurity=False).digest()).decode()
