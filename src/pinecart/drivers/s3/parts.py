"""Uploads in parts to an S3-compatible store, under the conditions that all writes have."""

from __future__ import annotations

from collections.abc import Sequence

from pinecart.core.ports import Placed, Put
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.multipart import PartSums
from pinecart.drivers.bucketed.writing import md5_text
from pinecart.drivers.http_message import HttpAnswer, Pieces
from pinecart.drivers.s3.client import S3Client
from pinecart.drivers.s3.conditional import ConditionalWrites
from pinecart.drivers.s3.probing import S3Prober
from pinecart.drivers.s3.signing import UNSIGNED
from pinecart.drivers.s3.upload_calls import UploadCalls
from pinecart.drivers.s3.wire import text_of

FULL_CRC = {"x-amz-checksum-algorithm": "CRC64NVME", "x-amz-checksum-type": "FULL_OBJECT"}


class S3Parts:
    """The marks of its parts are their ETags, which are their MD5s."""

    def __init__(
        self, client: S3Client, facts: BucketFacts, writes: ConditionalWrites, prober: S3Prober
    ) -> None:
        self._client = client
        self._facts = facts
        self._writes = writes
        self._prober = prober
        self._calls = UploadCalls(client)
        self.there = self._calls.parts
        self.abort = self._calls.abort
        self.clear = self._calls.clear

    def _verifies(self, key: bytes) -> str:
        return self._facts.able(self._client.split(key)[0]).checksum

    async def begin(self, put: Put) -> str:
        sums = FULL_CRC if self._verifies(put.key) == "crc64nvme" else {}
        return await self._calls.begin(put.key, self._writes.kept_headers(put) | sums)

    def is_same(self, etag: str, crc: str, md5: str) -> bool:
        return etag == f'"{md5}"'

    async def send(
        self, key: bytes, upload: str, number: int, body: bytes | Pieces, sums: PartSums
    ) -> str:
        """The store's name for the part. It goes with the checksum that this bucket was seen to
        verify; with none, where it verifies none.
        """
        client = self._client
        headers = {}
        if self._verifies(key) == "crc64nvme":
            headers["x-amz-checksum-crc64nvme"] = sums.crc
        elif self._verifies(key) == "md5":
            headers["content-md5"] = md5_text(sums.md5)
        if isinstance(body, bytes):
            payload = client.signed_payload(body)
        else:
            payload = sums.sha256 if client.signs_payload else UNSIGNED
        return await self._calls.send(key, upload, number, body, headers, payload)

    async def complete(
        self, put: Put, upload: str, step: int, etags: Sequence[str], crc: str
    ) -> tuple[str, bool]:
        headers = {}
        if crc and self._verifies(put.key) == "crc64nvme":
            headers = {"x-amz-checksum-crc64nvme": crc, "x-amz-checksum-type": "FULL_OBJECT"}
        is_guarded = bool(await self._writes.condition_of(put))
        guards = is_guarded and await self._prober.guards_completions(put.key, put.uploads)

        async def ask(condition: dict[str, str]) -> HttpAnswer:
            return await self._calls.complete(put.key, upload, etags, headers | condition)

        answer, guarded = await self._writes.conditionally(put, ask, guards=guards)
        return text_of(answer.body, "ETag"), guarded

    async def placed(self, put: Put, etag: str, crc: str, *, guarded: bool) -> Placed:
        proof = "server-verified" if self._verifies(put.key) else "size-only"
        return await self._writes.placed(put, etag, crc, proof, guarded=guarded, looks=True)
