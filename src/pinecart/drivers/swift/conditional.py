"""What all writes to Swift have in common: a condition, what is kept with an object, and the
segments of what was there before.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from pinecart.core.errors import Halting, Missing, StoreError
from pinecart.core.ports import Placed, Put
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.writes import ObjectWrites
from pinecart.drivers.http_message import HttpAnswer
from pinecart.drivers.swift.client import EXPIRY, SwiftClient, is_large
from pinecart.drivers.swift.listing import SwiftLister, no_bucket
from pinecart.drivers.swift.segments import PartsUntold, Segments
from pinecart.drivers.swift.wire import Segment

# which headers of an object Swift keeps, besides its type and metadata
KEPT = ("content-disposition", "content-encoding", "content-language", "cache-control", EXPIRY)


class SwiftWrites(ObjectWrites):
    """Creating has a condition where the store was not seen to take no notice of it; replacing has
    none: what is there is looked at just before.
    """

    def __init__(
        self, client: SwiftClient, facts: BucketFacts, lister: SwiftLister, segments: Segments
    ) -> None:
        """What a large object was made of must be known before it is replaced: afterwards nothing
        leads to it.
        """
        super().__init__(client, facts)
        self._client = client
        self._lister = lister
        self._segments = segments
        # key → what goes once the new one is there; or why that can't be told
        self._replaced: dict[bytes, list[Segment] | PartsUntold] = {}

    @staticmethod
    def kept_headers(put: Put) -> dict[str, str]:
        """What the object keeps of its source: metadata, our card, type and headers."""
        kept = {f"x-object-meta-{name}": value for name, value in put.metadata.items()}
        kept["x-object-meta-pinecart"] = put.card.text()
        if put.content_type:
            kept["content-type"] = put.content_type
        for name, value in put.headers.items():
            if name in KEPT:
                kept[name] = value
        return kept

    async def conditionally(
        self,
        put: Put,
        send: Callable[[dict[str, str]], Awaitable[HttpAnswer]],
        *,
        what: str,
        guards: bool = True,
    ) -> tuple[HttpAnswer, bool]:
        """The answer, and whether the write was guarded. `placed` is to be called afterwards."""
        bucket, _ = self._client.split(put.key)
        guarded = put.if_absent and guards and self._facts.able(bucket).create_only
        if not put.if_absent:
            self._replaced[put.key] = await self._segments_of_replaced(put)
        elif not guarded:
            await self.must_be_as_planned(put)
        answer = await send({"if-none-match": "*"} if guarded else {})
        if answer.status == 404:
            raise no_bucket(self._client, bucket)
        if answer.status != 201:
            raise self._client.error_of(answer, what=what)
        return answer, guarded

    async def placed(
        self, put: Put, etag: str, crc: str, proof: str, *, guarded: bool, looks: bool = False
    ) -> Placed:
        """What it replaced loses its segments."""
        placed = await super().placed(put, etag, crc, proof, guarded=guarded, looks=looks)
        try:
            replaced = self._replaced.pop(put.key, [])
            if isinstance(replaced, PartsUntold):
                raise replaced
            await self._segments.clear(replaced)
        except Halting:
            raise
        except StoreError as exc:
            return placed._replace(left=f"parts of what it replaced. {exc.message}")
        return placed

    async def _segments_of_replaced(self, put: Put) -> list[Segment] | PartsUntold:
        """What is there is looked at. Raises Taken."""
        try:
            there, headers = await self._client.look(put.key)
        except Missing:
            self.must_be_expected(put, None)
            return []
        self.must_be_expected(put, there.entry)
        if not is_large(headers) or await self._lister.keeps_versions(put.key):
            return []
        try:
            return await self._segments.made_of(put.key)
        except PartsUntold as exc:
            return exc
