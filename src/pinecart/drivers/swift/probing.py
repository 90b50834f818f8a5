"""What a container can do, found out by small objects of our own."""

from __future__ import annotations

from functools import partial

from pinecart.core.errors import Busy, Missing, SignInRefused
from pinecart.core.ports import Uploads
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import GONE, Query
from pinecart.drivers.bucketed.probing import ObjectProber
from pinecart.drivers.bucketed.writing import md5_of
from pinecart.drivers.swift.client import SwiftClient, is_large
from pinecart.drivers.swift.listing import SwiftLister, no_bucket
from pinecart.drivers.swift.wire import MANIFEST, NOTHING, SEGMENTS, Segment, manifest

OF_SEGMENTS = b"-segments"  # a probe that was to be an object of them
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

    async def joins(self, beside: bytes, journal: Uploads | None) -> bool:
        """Whether a manifest becomes an object of its segments; else it is stored as it is. Asked
        once of a container, beside what is written there.
        """
        if not self._may_delete:
            return True  # a write is looked at in any case
        known = self._facts.joins
        return await self.ask_once(known, beside, journal, self._tried, ending=OF_SEGMENTS)

    async def _tried(self, key: bytes) -> bool:
        try:
            return await self._makes_one(key)
        finally:
            await self.take_away_if_allowed(key)

    async def _makes_one(self, key: bytes) -> bool:
        client = self._client
        bucket, name = client.split(key)
        container = bucket + SEGMENTS
        what = f"Probing {client.name}"
        put = partial(client.good, "PUT", container, name, body=BODY, ok=201, what=what)
        await client.safely(put)
        segment = Segment(f"{container}/".encode() + name, md5_of(BODY).hex(), len(BODY))
        body = manifest([segment])
        ask = partial(client.ask, "PUT", bucket, name, query=MANIFEST, body=body)
        await client.safely(ask)
        try:
            stat, headers = await client.look(key)
        except Missing:
            return False
        return is_large(headers) and stat.entry.size == len(BODY)

    async def _status(self, key: bytes, headers: dict[str, str]) -> int:
        """Of a small write. Raises what is not about its checksum or condition."""
        client = self._client
        bucket, name = client.split(key)

        async def one() -> int:
            """The status alone tells what the store holds to. A fault, a refused key, or a
            container that isn't there says nothing of it.
            """
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
        """With all versions of it, and what it was to be made of. Raises StoreError."""
        client = self._client
        bucket, name = client.split(key)
        if key.endswith(OF_SEGMENTS):
            await self._gone(bucket + SEGMENTS, name, [], key)
        kept = await self._lister.versions(key)
        for version in [one.version for one in kept] or [""]:
            await self._gone(bucket, name, client.versioned(version), key)

    async def _gone(self, container: str, name: bytes, which: Query, key: bytes) -> None:
        client = self._client
        ask = partial(client.ask, "DELETE", container, name, query=which)
        answer = await client.safely(ask)
        if answer.status not in GONE:
            what = f"Taking away our probe {client.named(key)}"
            raise client.error_of(answer, what=what)
