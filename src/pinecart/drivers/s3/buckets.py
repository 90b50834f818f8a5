"""Buckets are made, and dropped when they are empty."""

from __future__ import annotations

import hashlib

from pinecart.drivers.s3.client import S3Client


class BucketKeeper:
    """Of one endpoint."""

    def __init__(self, client: S3Client) -> None:
        self._client = client

    async def make(self, name: str) -> bool:
        body = b""
        if self._client.region != "us-east-1":
            place = f"<LocationConstraint>{self._client.region}</LocationConstraint>"
            body = f"<CreateBucketConfiguration>{place}</CreateBucketConfiguration>".encode()
        if (await self._client.ask("HEAD", name)).status == 200:
            return False
        payload = hashlib.sha256(body).hexdigest()
        answer = await self._client.ask("PUT", name, body=body, payload=payload)
        if answer.status == 409 and b"BucketAlreadyOwnedByYou" in answer.body:
            return False
        if answer.status != 200:
            what = f"Making bucket {name!r} at {self._client.name}"
            raise self._client.error_of(answer, what=what)
        return True

    async def drop(self, name: str) -> None:
        await self._client.good(
            "DELETE", name, what=f"Dropping bucket {name!r} at {self._client.name}", ok=204
        )
