"""Uploads in parts, as the S3 protocol has them."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from functools import partial

from pinecart.core.ports import Placed, Put
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import Query
from pinecart.drivers.bucketed.multipart import PartSums
from pinecart.drivers.bucketed.writing import md5_text
from pinecart.drivers.http_message import HttpAnswer, Pieces
from pinecart.drivers.paging import PageTrail
from pinecart.drivers.s3.client import S3Client
from pinecart.drivers.s3.conditional import ConditionalWrites
from pinecart.drivers.s3.signing import UNSIGNED
from pinecart.drivers.s3.wire import completion, parse_parts, parse_uploads, text_of

FULL_CRC = {"x-amz-checksum-algorithm": "CRC64NVME", "x-amz-checksum-type": "FULL_OBJECT"}


class S3Parts:
    """The marks of its parts are their ETags, which are their MD5s."""

    def __init__(self, client: S3Client, facts: BucketFacts, writes: ConditionalWrites) -> None:
        self._client = client
        self._facts = facts
        self._writes = writes

    def _verifies(self, key: bytes) -> str:
        return self._facts.able(self._client.split(key)[0]).checksum

    async def begin(self, put: Put) -> str:
        bucket, name = self._client.split(put.key)
        sums = FULL_CRC if self._verifies(put.key) == "crc64nvme" else {}
        answer = await self._client.good(
            "POST",
            bucket,
            name,
            query=[("uploads", "")],
            headers=self._writes.kept_headers(put) | sums,
            what=f"Starting parts of {self._client.named(put.key)}",
        )
        return text_of(answer.body, "UploadId")

    async def there(self, key: bytes, upload: str) -> dict[tuple[int, int], str] | None:
        """(number, size) → ETag of what has come of it; None: there is no such upload."""
        bucket, name = self._client.split(key)
        whole: Query = [("uploadId", upload)]
        query = whole
        trail = PageTrail(f"The list of parts of {self._client.named(key)}")
        there: dict[tuple[int, int], str] = {}
        while True:
            ask = partial(self._client.ask, "GET", bucket, name, query=query)
            answer = await self._client.safely(ask)
            if answer.status != 200:
                return None
            parts, following = parse_parts(answer.body)
            for which, etag in parts.items():
                there[which] = f'"{etag}"'
            if not following:
                return there
            marker = trail.follow(following)
            query = [("part-number-marker", marker), *whole]

    def is_same(self, etag: str, crc: str, md5: str) -> bool:
        return etag == f'"{md5}"'

    async def send(
        self, key: bytes, upload: str, number: int, body: bytes | Pieces, sums: PartSums
    ) -> str:
        client = self._client
        bucket, name = client.split(key)
        headers = {}
        if self._verifies(key) == "crc64nvme":
            headers["x-amz-checksum-crc64nvme"] = sums.crc
        elif self._verifies(key) == "md5":
            headers["content-md5"] = md5_text(sums.md5)
        if isinstance(body, bytes):
            payload = client.signed_payload(body)
        else:
            payload = sums.sha256 if client.signs_payload else UNSIGNED
        answer = await client.good(
            "PUT",
            bucket,
            name,
            query=[("partNumber", str(number)), ("uploadId", upload)],
            headers=headers,
            body=body,
            payload=payload,
            what=f"Writing part {number} of {client.named(key)}",
        )
        return answer.headers.get("ETag", "")

    async def complete(
        self, put: Put, upload: str, step: int, etags: Sequence[str], crc: str
    ) -> tuple[str, bool]:
        client = self._client
        bucket, name = client.split(put.key)
        body = completion(etags)
        headers = {"content-length": str(len(body))}
        if crc and self._verifies(put.key) == "crc64nvme":
            headers |= {"x-amz-checksum-crc64nvme": crc, "x-amz-checksum-type": "FULL_OBJECT"}

        async def ask(condition: dict[str, str]) -> HttpAnswer:
            return await client.ask(
                "POST",
                bucket,
                name,
                query=[("uploadId", upload)],
                headers=headers | condition,
                body=body,
                payload=client.signed_payload(body),
            )

        answer, guarded = await self._writes.conditionally(put, ask)
        return text_of(answer.body, "ETag"), guarded

    async def placed(self, put: Put, etag: str, crc: str, *, guarded: bool) -> Placed:
        proof = "server-verified" if self._verifies(put.key) else "size-only"
        return await self._writes.placed(put, etag, crc, proof, guarded=guarded, looks=True)

    async def abort(self, key: bytes, upload: str) -> None:
        bucket, name = self._client.split(key)
        await self._writes.abort(bucket, name, upload)

    async def clear(self, key: bytes, since: str) -> int:
        """Takes away what was begun since then of just this key. Raises StoreError where it can't
        be told that none is left.
        """
        bucket, name = self._client.split(key)
        ours = await self._begun(key, datetime.fromisoformat(since))
        for upload in ours:
            await self._writes.abort(bucket, name, upload)
        return len(ours)

    async def _begun(self, key: bytes, since: datetime) -> list[str]:
        """All pages are read: not every store tells them in order."""
        client = self._client
        bucket, name = client.split(key)
        query: Query = [("uploads", ""), ("prefix", name), ("encoding-type", "url")]
        what = f"Looking for unfinished uploads of {client.named(key)}"
        trail = PageTrail(what)
        found: list[str] = []
        go_on: Query = []
        while True:
            ask = partial(client.good, "GET", bucket, query=[*query, *go_on], what=what)
            answer = await client.safely(ask)
            uploads, go_on = parse_uploads(answer.body)
            found += [u for u, k, at in uploads if k == name and at >= since]
            if not go_on:
                return found
            trail.follow(tuple(go_on))
