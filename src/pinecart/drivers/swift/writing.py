"""How an object comes to be in Swift: in one request, or as static segments."""

from __future__ import annotations

import secrets
import time
from collections.abc import Sequence
from datetime import datetime

from pinecart.core.errors import Refused
from pinecart.core.ports import Placed, Put
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.multipart import PartSums
from pinecart.drivers.bucketed.writing import md5_of
from pinecart.drivers.http_message import HttpAnswer, Pieces
from pinecart.drivers.swift.client import UPLOAD, SwiftClient
from pinecart.drivers.swift.conditional import SwiftWrites
from pinecart.drivers.swift.probing import SwiftProber
from pinecart.drivers.swift.segments import Segments
from pinecart.drivers.swift.wire import (
    MANIFEST,
    SEGMENTS,
    Segment,
    begun_ms,
    manifest,
    segment_name,
    segment_told,
)

MOST_SEGMENTS = 1000  # of one object, where a store says nothing else (Static Large Objects)


class SwiftWhole:
    def __init__(self, client: SwiftClient, facts: BucketFacts, writes: SwiftWrites) -> None:
        self._client = client
        self._facts = facts
        self._writes = writes

    async def put(self, put: Put, body: bytes) -> Placed:
        client = self._client
        writes = self._writes
        bucket, name = client.split(put.key)
        md5 = md5_of(body).hex()
        headers = writes.kept_headers(put)
        headers["etag"] = md5

        async def send(condition: dict[str, str]) -> HttpAnswer:
            told = headers | condition
            return await client.ask("PUT", bucket, name, headers=told, body=body)

        what = f"Writing {client.named(put.key)}"
        answer, guarded = await writes.conditionally(put, send, what=what)
        etag = answer.headers.get("ETag", "")
        is_verified = etag.strip('"') == md5  # it tells what it has
        proof = "server-verified" if is_verified else "size-only"
        return await writes.placed(put, etag, put.card.crc, proof, guarded=guarded)


class SwiftSegments:
    """A large object is a manifest of segments, each an object of its own: their ETags are their
    MD5s, and verified as they are sent.
    """

    def __init__(
        self, client: SwiftClient, writes: SwiftWrites, segments: Segments, prober: SwiftProber
    ) -> None:
        self._client = client
        self._writes = writes
        self._segments = segments
        self._prober = prober

    async def begin(self, put: Put) -> str:
        """The upload's id tells when it began, by the storage's clock where that is known."""
        bucket, _ = self._client.split(put.key)
        await self._segments.made_container(bucket)
        if not await self._prober.joins(put.key, put.uploads):
            raise Refused(
                f"{self._client.named(put.key)}: the store makes no objects of segments (Static "
                "Large Objects), and takes no large files so. Have its operator switch that on.",
                code="store.unsupported",
            )
        now = self._client.last_date
        begun_s = now.timestamp() if now else time.time()
        begun_ms = int(begun_s * 1000)
        return f"{begun_ms:013}-{secrets.token_hex(4)}"

    async def there(self, key: bytes, upload: str) -> dict[tuple[int, int], str] | None:
        """(number, size) → ETag of what has come of it."""
        _, name = self._client.split(key)
        found = {}
        for segment in await self._segments.of(key, upload):
            segment_of = segment.path.partition(b"/")[2]
            told = segment_told(segment_of, name)
            if told:
                _, number = told
                found[number, segment.size] = segment.etag
        return found

    def is_same(self, etag: str, crc: str, md5: str) -> bool:
        return etag == md5

    async def send(
        self, key: bytes, upload: str, number: int, body: bytes | Pieces, sums: PartSums
    ) -> str:
        bucket, name = self._client.split(key)
        md5 = (sums.md5 or (md5_of(body) if isinstance(body, bytes) else b"")).hex()
        await self._client.good(
            "PUT",
            bucket + SEGMENTS,
            segment_name(name, upload, number),
            headers={"etag": md5},
            body=body,
            ok=201,
            what=f"Writing part {number} of {self._client.named(key)}",
        )
        return md5

    async def complete(
        self, put: Put, upload: str, step: int, etags: Sequence[str], crc: str
    ) -> tuple[str, bool]:
        bucket, name = self._client.split(put.key)
        starts = range(0, put.size, step)
        segments = [
            Segment(
                f"{bucket}{SEGMENTS}/".encode() + segment_name(name, upload, number),
                etag,
                min(step, put.size - start),
            )
            for number, (start, etag) in enumerate(zip(starts, etags, strict=True), 1)
        ]
        return await self.made_of(put, upload, segments)

    async def made_of(self, put: Put, upload: str, segments: Sequence[Segment]) -> tuple[str, bool]:
        """The manifest of these: from then on there is the object."""
        client = self._client
        bucket, name = client.split(put.key)
        headers = self._writes.kept_headers(put)
        headers[UPLOAD] = upload
        body = manifest(segments)

        async def send(condition: dict[str, str]) -> HttpAnswer:
            told = headers | condition
            return await client.ask("PUT", bucket, name, query=MANIFEST, headers=told, body=body)

        what = f"Making {client.named(put.key)} of its parts"
        answer, guarded = await self._writes.conditionally(put, send, what=what)
        etag = answer.headers.get("ETag", "")
        return etag, guarded

    async def placed(self, put: Put, etag: str, crc: str, *, guarded: bool) -> Placed:
        proof = "server-verified"
        return await self._writes.placed(put, etag, crc, proof, guarded=guarded, looks=True)

    async def abort(self, key: bytes, upload: str) -> None:
        """But those that an object is made of: a write that was given up may have made it all the
        same.
        """
        used = await self._segments.in_use(key)
        left = await self._unused(key, used, upload)
        await self._segments.clear(left)

    async def clear(self, key: bytes, since: str) -> int:
        """All of ours that were begun since then, but those that an object is made of; and those
        from before where such a later one is there: it has replaced what they were of.
        """
        since_ms = int(datetime.fromisoformat(since).timestamp()) * 1000
        used = await self._segments.in_use(key)
        has_replaced = any(self._begun_ms(key, segment) >= since_ms for segment in used)
        left = []
        for segment in await self._unused(key, used):
            if has_replaced or self._begun_ms(key, segment) >= since_ms:
                left.append(segment)
        await self._segments.clear(left)
        uploads = {segment.path.rpartition(b"/")[0] for segment in left}
        return len(uploads)

    def _begun_ms(self, key: bytes, segment: Segment) -> int:
        """Milliseconds since 1970 at which the upload of a segment began, which its name tells;
        0: it is no segment of ours.
        """
        _, name = self._client.split(key)
        segment_of = segment.path.partition(b"/")[2]
        told = segment_told(segment_of, name)
        if told:
            return begun_ms(told[0])
        return 0

    async def _unused(self, key: bytes, used: Sequence[Segment], upload: str = "") -> list[Segment]:
        """Of ours for this key: of all uploads, or of one."""
        kept = {segment.path for segment in used}
        found = await self._segments.of(key, upload)
        return [segment for segment in found if segment.path not in kept]
