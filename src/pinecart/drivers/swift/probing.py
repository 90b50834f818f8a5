"""What a container can do, found out by small objects of our own."""

from __future__ import annotations

from functools import partial

from pinecart.core.errors import Busy, Missing, SignInRefused
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import GONE
from pinecart.drivers.bucketed.probing import ObjectProber
from pinecart.drivers.swift.client import SwiftClient
from pinecart.drivers.swift.listing import SwiftLister, no_bucket
from pinecart.drivers.swift.wire import NOTHING

BODY = b"pinecart asks whether checksums are verified here"


class SwiftProber(ObjectProber):
    def __init__(self, client: SwiftClient, facts: BucketFacts, lister: SwiftLister) -> None:
        super().__init__(client, facts)
        self._client = client
        self._lister = lister

    async def find_out(self, key: bytes) -> None:
        """A wrong checksum, and a second write of the same name under a condition."""
        bucket, _ = self._client.split(key)
        with_a_wrong_sum = await self._status(key, {"etag": NOTHING})
        checksum = "md5" if with_a_wrong_sum == 422 else ""
        self._facts.learn(bucket, checksum=checksum)
        await self._status(key, {})
        once_more = await self._status(key, {"if-none-match": "*"})
        if once_more != 412:
            self._facts.learn(bucket, create_only=False)
        await self.take_away_if_allowed(key)

    async def _status(self, key: bytes, headers: dict[str, str]) -> int:
        """Of a small write. Raises what is not about its checksum or condition."""
        client = self._client
        bucket, name = client.split(key)

        async def one() -> int:
            answer = await client.ask("PUT", bucket, name, headers=headers, body=BODY)
            if answer.status in (201, 412, 422):
                return answer.status
            error = client.error_of(answer, what=f"Probing {client.name}")
            if isinstance(error, Missing):
                raise no_bucket(client, bucket)
            if isinstance(error, Busy | SignInRefused) or answer.status == 403:
                raise error
            return answer.status

        return await client.safely(one)

    async def delete(self, key: bytes) -> None:
        """With all versions of it. Raises StoreError."""
        client = self._client
        bucket, name = client.split(key)
        kept = await self._lister.versions(key)
        for version in [one.version for one in kept] or [""]:
            query = client.versioned(version)
            ask = partial(client.ask, "DELETE", bucket, name, query=query)
            answer = await client.safely(ask)
            if answer.status not in GONE:
                what = f"Taking away our probe {client.named(key)}"
                raise client.error_of(answer, what=what)
