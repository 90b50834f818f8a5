"""Buckets are made, and dropped when they are empty."""

from __future__ import annotations

import hashlib

from pinecart.core.errors import Refused
from pinecart.drivers.s3.client import S3Client
from pinecart.drivers.s3.listing import Lister


class BucketKeeper:
    """Of one endpoint."""

    def __init__(self, client: S3Client, lister: Lister) -> None:
        self._client, self._lister = client, lister

    async def make(self, name: str) -> bool:
        body = b""
        if self._client.region != "us-east-1":
            place = f"<LocationConstraint>{self._client.region}</LocationConstraint>"
            body = f"<CreateBucketConfiguration>{place}</CreateBucketConfiguration>".encode()
        if (await self._client.ask("HEAD", name)).status == 200:
            return False
        payload = hashlib.sha256(body).hexdigest()
        answer = await self._client.ask(
            "PUT", name, headers={"content-length": str(len(body))}, body=body, payload=payload
        )
        if answer.status == 409 and b"BucketAlreadyOwnedByYou" in answer.body:
            return False
        if answer.status != 200:
            raise self._client.error_of(
                answer,
                what=f"Making bucket {name!r} at {self._client.name}",
            )
        return True

    async def drop(self, name: str) -> None:
        page = await self._lister.page(name, b"", [("max-keys", "1")])
        if page.entries or page.folders:
            where = f"Bucket {name!r} at {self._client.name}"
            message = f"{where} is not empty. Only an empty one is dropped."
            raise Refused(message, code="bucket.not-empty")
        await self._client.good(
            "DELETE", name, what=f"Dropping bucket {name!r} at {self._client.name}", ok=204
        )
