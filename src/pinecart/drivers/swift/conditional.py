"""What all writes to Swift have in common: a condition, what is kept with an object, and the
segments of what was there before.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from pinecart.core.entries import Entry
from pinecart.core.errors import Corrupt, Missing, Taken
from pinecart.core.ports import Placed, Put
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.http_message import HttpAnswer
from pinecart.drivers.swift.client import EXPIRY, SwiftClient
from pinecart.drivers.swift.listing import SwiftLister, no_bucket
from pinecart.drivers.swift.segments import Segments
from pinecart.drivers.swift.wire import Segment

# which headers of an object Swift keeps, besides its type and metadata
KEPT = ("content-disposition", "content-encoding", "content-language", "cache-control", EXPIRY)


class SwiftWrites:
    """Creating has a condition where the store was not seen to take no notice of it; replacing has
    none: what is there is looked at just before.
    """

    def __init__(
        self, client: SwiftClient, facts: BucketFacts, lister: SwiftLister, segments: Segments
    ) -> None:
        self._client, self._facts = client, facts
        self._lister, self._segments = lister, segments

    @staticmethod
    def kept_headers(put: Put) -> dict[str, str]:
        kept = {f"x-object-meta-{name}": value for name, value in put.metadata.items()}
        kept["x-object-meta-pinecart"] = put.card.text()
        if put.content_type:
            kept["content-type"] = put.content_type
        return kept | {k: v for k, v in put.headers.items() if k in KEPT}

    async def lost(self, put: Put) -> str:
        """Which headers its store did not keep: looked at once for each, and remembered."""
        bucket, _ = self._client.split(put.key)
        kept = self._facts.kept.setdefault(bucket, set())
        drops = self._facts.dropped.setdefault(bucket, set())
        unknown = put.headers.keys() - kept - drops
        if unknown:
            there = (await self._client.stat(put.key)).headers
            for name in unknown:
                (kept if there.get(name) == put.headers[name] else drops).add(name)
        return ", ".join(sorted(put.headers.keys() & drops))

    async def conditionally(
        self,
        put: Put,
        send: Callable[[dict[str, str]], Awaitable[HttpAnswer]],
        *,
        what: str,
        guards: bool = True,
    ) -> tuple[HttpAnswer, bool]:
        """The answer, and whether the write was guarded. What it replaces loses its segments."""
        bucket, _ = self._client.split(put.key)
        guarded = put.if_absent and guards and self._facts.able(bucket).create_only
        old = [] if guarded else await self._segments_before(put)
        answer = await send({"if-none-match": "*"} if guarded else {})
        if answer.status == 404:
            raise no_bucket(self._client, bucket)
        if answer.status != 201:
            raise self._client.error_of(answer, what=what)
        await self._segments.clear(old)
        return answer, guarded

    async def _segments_before(self, put: Put) -> list[Segment]:
        """Of what lies there now, which is looked at."""
        named = self._client.named(put.key)
        try:
            there, is_large = await self._client.look(put.key)
        except Missing:
            if put.expected is not None:
                raise
            return []
        if put.if_absent:
            raise Taken(f"{named} appeared there meanwhile. The next run looks again.")
        if put.expected is not None and there.entry.etag != put.expected.etag:
            raise Taken(
                f"{named} is not as it was when this was planned. The next run looks again."
            )
        if not is_large or await self._lister.keeps_versions(put.key):
            return []
        return await self._segments.made_of(put.key)

    async def placed(self, put: Put, etag: str, crc: str, proof: str, *, guarded: bool) -> Placed:
        known = etag.strip('"')
        if not known or proof == "size-only":
            there = (await self._client.stat(put.key)).entry
            known = known or there.etag
            if there.size != put.size:
                told = f"{put.size} bytes were sent, {there.size} are there"
                raise Corrupt(f"{self._client.named(put.key)}: {told}.")
        entry = Entry(put.key, put.size, None, known)
        return Placed(entry, proof, guarded, crc, await self.lost(put))
