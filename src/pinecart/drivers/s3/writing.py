"""How an object comes to be in an S3-compatible store: in one request, in parts, or copied there by
the store itself.
"""

from __future__ import annotations

import base64
import hashlib
from collections.abc import AsyncIterator, Awaitable
from datetime import datetime
from functools import partial

from pinecart.core.checksum import Crc64, crc_of
from pinecart.core.entries import Entry
from pinecart.core.errors import Changed, Corrupt, Refused, Taken
from pinecart.core.places import show
from pinecart.core.ports import Placed, Put, Reading, Stat, Store, WriteStamp
from pinecart.drivers.http_message import HttpAnswer, Pieces
from pinecart.drivers.pieces import in_pieces, piece_size
from pinecart.drivers.s3.client import Query
from pinecart.drivers.s3.conditional import WritesWithCondition, is_error
from pinecart.drivers.s3.multipart import MultipartUpload
from pinecart.drivers.s3.signing import UNSIGNED, encoded_path
from pinecart.drivers.s3.wire import error_from, parse_uploads, text_of

COPY_BYTES = 5 << 30  # what a store copies in one request, at most (S3 API, CopyObject)
COPY_PART = 1 << 30
HELD_PART = 16 << 20  # a larger part is never held


class S3Writing(WritesWithCondition):
    """What writes.

    Every write has its condition where the store knows one, and is looked at just before where it
    doesn't.
    """

    async def put(self, put: Put) -> Placed:
        """One request; above HELD_BYTES in parts."""
        if not isinstance(put.body, bytes):
            return await self._put_in_parts(put, put.body)
        bucket, name = self._split(put.key)
        body = put.body
        headers, proof = self._kept(put), "server-verified"
        headers["content-length"] = str(put.size)
        verifies = self.able(bucket).checksum
        if verifies == "crc64nvme":
            headers["x-amz-checksum-crc64nvme"] = put.card.crc
        elif verifies == "md5":
            headers["content-md5"] = md5_of(body)
        else:
            proof = "size-only"

        def send(condition: dict[str, str]) -> Awaitable[HttpAnswer]:
            return self._ask(
                "PUT",
                bucket,
                name,
                headers=headers | condition,
                body=body,
                payload=self._hash(body),
            )

        answer, guarded = await self._conditionally(put, send)
        etag = await self._etag(put.key, answer.headers.get("ETag", ""))
        if proof == "size-only":
            await self._must_have_size(put)
        return Placed(
            Entry(put.key, put.size, None, etag),
            proof,
            guarded,
            put.card.crc,
            await self._lost(put),
        )

    async def _put_in_parts(self, put: Put, source: Reading) -> Placed:
        """Parts of the source, several at once; the source is verified before they become one
        object.
        """
        parts = _PartsOfReading(self, put.key, source)
        return await MultipartUpload(self, put, piece_size(put.size), parts, put.shares).carry_out()

    async def put_part(self, key: bytes, upload: str, number: int, body: bytes) -> tuple[str, str]:
        """One part of an upload that was begun, numbered from 1. Its ETag and CRC."""
        md5 = md5_of(body) if self.able(self._split(key)[0]).checksum == "md5" else ""
        return await self._part(key, upload, number, body, crc_of(body), md5, self._hash(body))

    async def _put_part_in_pieces(
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
        payload = sha256.hex() if self._signs_payload else UNSIGNED
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
        bucket, name = self._split(key)
        headers = {"content-length": str(len(body))}
        if self.able(bucket).checksum == "crc64nvme":
            headers["x-amz-checksum-crc64nvme"] = crc
        elif self.able(bucket).checksum == "md5":
            headers["content-md5"] = md5
        query: Query = [("partNumber", str(number)), ("uploadId", upload)]
        answer = await self._safely(
            lambda: self._good(
                "PUT",
                bucket,
                name,
                query=query,
                headers=headers,
                body=body,
                payload=payload,
                what=f"Writing part {number} of {self._named(key)}",
            ),
            corrupted_too=True,
        )
        return answer.headers.get("ETag", ""), crc

    async def _clear_uploads(self, key: bytes, since: str) -> int:
        """Raises StoreError where it can't be told that none is left."""
        bucket, name = self._split(key)
        what = f"Looking for unfinished uploads of {self._named(key)}"
        answer = await self._safely(
            lambda: self._good(
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
            await self._abort(bucket, name, upload)
        return len(ours)

    def copies_from(self, source: Store) -> bool:
        """One endpoint, and one key for both sides."""
        return isinstance(source, S3Writing) and source._system == self._system

    async def copy(
        self, put: Put, source: Store, source_key: bytes, entry: Entry, version: str = ""
    ) -> Placed | None:
        """The store copies by itself; in parts what is above 5 GiB or was made of parts."""
        if not isinstance(source, S3Writing) or not self.copies_from(source):
            return None
        from_bucket, from_name = source._split(source_key)
        where = {
            "x-amz-copy-source": encoded_path(from_bucket, from_name)
            + (f"?versionId={version}" if version else ""),
            "x-amz-copy-source-if-match": f'"{entry.etag}"',
        }
        try:
            # An object of parts is copied in parts: some stores list another ETag for its whole
            # copy than they answer.
            if put.size > COPY_BYTES or "-" in entry.etag:
                placed = await self._copy_in_parts(
                    put, where, await source.stat(source_key, version)
                )
            else:
                placed = await self._copy_whole(put, where)
        except Taken as exc:
            if (await source.stat(source_key, version)).entry.etag != entry.etag:
                raise Changed(f"{source._named(source_key)} changed before it was copied.") from exc
            if put.if_absent and await self._is_absent(put.key):
                self._guards_copies = (
                    False  # some stores hold the condition against the source of a copy
                )
                return await self.copy(put, source, source_key, entry, version)
            raise
        except (
            Refused
        ):  # this key may not, or this store does not know how: the bytes go through us
            return None
        if placed.entry.etag != entry.etag:  # else the store itself tells that it is the same
            placed = await self._compared(placed, put, await source.stat(source_key, version))
        if put.extra.tags and await self.tags(put.key) != dict(put.extra.tags):
            return placed._replace(lost="tags")
        return placed

    async def _compared(self, placed: Placed, put: Put, of: Stat) -> Placed:
        """A copy whose ETag says nothing of its source: by checksums, where both have one. Raises
        Corrupt.
        """
        there = await self.stat(put.key)
        known = of.crc or (of.card.crc if of.card else "")
        if there.entry.size != put.size or (there.crc and known and there.crc != known):
            raise Corrupt(
                f"{self._named(put.key)}: the store's own copy is not the same as its source."
            )
        proof = "server-copy" if there.crc and known else "size-only"
        return placed._replace(proof=proof, crc=there.crc or known)

    async def _copy_whole(self, put: Put, where: dict[str, str]) -> Placed:
        """What is kept with the source goes along as it is, its tags too: nothing has to be asked
        for before.
        """
        bucket, name = self._split(put.key)
        headers = where | {"content-length": "0"}
        if put.extra.storage_class:
            headers["x-amz-storage-class"] = put.extra.storage_class
        answer, guarded = await self._conditionally(
            put,
            lambda condition: self._ask("PUT", bucket, name, headers=headers | condition),
            guards=self._guards_copies,
        )
        entry = Entry(
            put.key, put.size, None, await self._etag(put.key, text_of(answer.body, "ETag"))
        )
        return Placed(
            entry, "server-copy", guarded, text_of(answer.body, "ChecksumCRC64NVME") or put.card.crc
        )

    async def _copy_in_parts(self, put: Put, where: dict[str, str], of: Stat) -> Placed:
        card = put.card
        if of.card:
            card = WriteStamp(card.decision_id, of.card.modified_ns, of.crc or of.card.crc)
        put = put._replace(
            card=card,
            metadata={**of.metadata, **put.metadata},
            content_type=of.content_type,
            headers=of.headers,
        )

        parts = _PartsOfObject(self, put.key, where)
        step = max(piece_size(put.size), COPY_PART)
        placed = await MultipartUpload(self, put, step, parts).carry_out()
        return placed._replace(proof="server-copy")

    async def _copy_part(
        self, key: bytes, where: dict[str, str], upload: str, number: int, start: int, size: int
    ) -> str:
        """The store copies a range of another object as a part. Its ETag."""
        bucket, name = self._split(key)
        copied = f"bytes={start}-{start + size - 1}"
        headers = where | {"x-amz-copy-source-range": copied, "content-length": "0"}
        query: Query = [("partNumber", str(number)), ("uploadId", upload)]
        what = f"Copying part {number} of {self._named(key)}"
        answer = await self._safely(
            partial(self._good, "PUT", bucket, name, query=query, headers=headers, what=what)
        )
        if is_error(answer.body):
            raise error_from(answer.status, answer.headers, answer.body, what=what)
        return text_of(answer.body, "ETag")


class _PartsOfReading:
    """Parts of an opened source, which go through us."""

    def __init__(self, store: S3Writing, key: bytes, source: Reading) -> None:
        self._store, self._key, self._source = store, key, source

    async def send(self, upload: str, number: int, start: int, size: int) -> tuple[str, str]:
        if size > HELD_PART:
            return await self._store._put_part_in_pieces(
                self._key, upload, number, self._source, start, size
            )
        body = await self._source.piece(start, size)
        return await self._store.put_part(self._key, upload, number, body)

    async def sums(self, start: int, size: int) -> tuple[str, str]:
        crc, md5, _ = await _sums(self._source, start, size)
        return crc, md5.hex()

    async def verify(self, crc: str) -> None:
        await self._source.verify(crc)


class _PartsOfObject:
    """Ranges of another object of the same system, which the store copies by itself."""

    def __init__(self, store: S3Writing, key: bytes, where: dict[str, str]) -> None:
        self._store, self._key, self._where = store, key, where

    async def send(self, upload: str, number: int, start: int, size: int) -> tuple[str, str]:
        etag = await self._store._copy_part(self._key, self._where, upload, number, start, size)
        return etag, ""

    async def sums(self, start: int, size: int) -> None:
        """What a part of ours holds can't be told without reading it."""

    async def verify(self, crc: str) -> None:
        """Every part was copied under If-Match of one ETag."""


async def _sums(source: Reading, start: int, size: int) -> tuple[str, bytes, bytes]:
    """CRC, MD5 and SHA-256 of a range."""
    crc, md5, sha256 = Crc64(), hashlib.md5(usedforsecurity=False), hashlib.sha256()
    async for piece in in_pieces(source, start, size):
        crc.add(piece)
        md5.update(piece)
        sha256.update(piece)
    return crc.text, md5.digest(), sha256.digest()


def md5_of(body: bytes) -> str:
    return base64.b64encode(hashlib.md5(body, usedforsecurity=False).digest()).decode()
