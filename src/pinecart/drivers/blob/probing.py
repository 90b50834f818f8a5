"""What a container can do, found out by small blobs of our own."""

from __future__ import annotations

from functools import partial

from pinecart.core.checksum import crc_of
from pinecart.core.errors import Busy, Corrupt, StoreError
from pinecart.drivers.blob.client import BlobClient
from pinecart.drivers.blob.conditional import MADE
from pinecart.drivers.blob.listing import BlobLister
from pinecart.drivers.blob.wire import their_crc
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import Query
from pinecart.drivers.bucketed.probing import ObjectProber
from pinecart.drivers.bucketed.writing import md5_of, md5_text

BODY = b"pinecart asks whether checksums are verified here"
OTHER = b"another body"
SURE = (400, 404, 409, 412, 500, 501)  # how a condition or a checksum may be refused
NEVER = ("store.no-bucket", "store.secret-wrong", "store.key-expired", "store.clock")


class BlobProber(ObjectProber):
    def __init__(self, client: BlobClient, facts: BucketFacts, lister: BlobLister) -> None:
        super().__init__(client, facts)
        self._client = client
        self._lister = lister

    async def find_out(self, key: bytes) -> None:
        """A write with a wrong checksum: a storage that verifies finds that it is wrong."""
        bucket, _ = self._client.split(key)
        for header, wrong, name in (
            ("x-ms-content-crc64", their_crc(crc_of(OTHER)), "crc64nvme"),
            ("content-md5", md5_text(md5_of(OTHER)), "md5"),
        ):
            if isinstance(await self._refusal(key, {header: wrong}), Corrupt):
                self._facts.learn(bucket, checksum=name)
                break
        if await self._refusal(key, {"if-match": '"no-such-etag"'}) is None:
            self._facts.learn(bucket, create_only=False)

    async def _refusal(self, key: bytes, headers: dict[str, str]) -> StoreError | None:
        """Of a small write. None: it was taken, and what it left is taken away."""
        bucket, name = self._client.split(key)
        full = headers | {"x-ms-blob-type": "BlockBlob"}
        what = f"Probing {self._client.name}"

        async def one() -> StoreError | None:
            """The refusal, or None where it was taken. Raises StoreError."""
            answer = await self._client.ask("PUT", bucket, name, headers=full, body=BODY)
            if answer.status in MADE:
                self._facts.versioned[bucket] = bool(answer.headers.get("x-ms-version-id"))
                return None
            error = self._client.error_of(answer, what=what)
            if isinstance(error, Busy) or error.code in NEVER or answer.status not in SURE:
                raise error
            return error

        refused = await self._client.safely(one)
        if refused is None:
            await self.take_away_if_allowed(key)
        return refused

    async def delete(self, key: bytes) -> None:
        """With all versions of it. Raises StoreError."""
        client = self._client
        bucket, name = client.split(key)

        async def one(version: str) -> None:
            """One of its versions; empty: what is there now. Gone is as good as removed."""
            if version:
                query: Query = [("versionid", version)]
            else:
                query = []
            answer = await client.ask("DELETE", bucket, name, query=query)
            if answer.status not in (202, 404):
                what = f"Taking away our probe {client.named(key)}"
                raise client.error_of(answer, what=what)

        await client.safely(partial(one, ""))
        if self._facts.versioned.get(bucket):
            for kept in await self._lister.versions(key):
                await client.safely(partial(one, kept.version))
