"""How an object comes to be in an S3-compatible store in one request."""

from __future__ import annotations

from collections.abc import Awaitable

from pinecart.core.ports import Placed, Put
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.writing import md5_of, md5_text
from pinecart.drivers.http_message import HttpAnswer
from pinecart.drivers.s3.client import S3Client
from pinecart.drivers.s3.conditional import ConditionalWrites


class S3Whole:
    """Writes under conditions."""

    def __init__(self, client: S3Client, facts: BucketFacts, writes: ConditionalWrites) -> None:
        self._client = client
        self._facts = facts
        self._writes = writes

    async def put(self, put: Put, body: bytes) -> Placed:
        """One request, with the strongest checksum that this bucket was seen to verify. The proof
        says whether the store has compared it.
        """
        bucket, name = self._client.split(put.key)
        headers = self._writes.kept_headers(put)
        proof = "server-verified"
        verifies = self._facts.able(bucket).checksum
        if verifies == "crc64nvme":
            headers["x-amz-checksum-crc64nvme"] = put.card.crc
        elif verifies == "md5":
            headers["content-md5"] = md5_text(md5_of(body))
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
        etag = answer.headers.get("ETag", "")
        return await self._writes.placed(put, etag, put.card.crc, proof, guarded=guarded)
