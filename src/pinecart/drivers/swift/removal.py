"""How an object goes: exactly this one, looked at just before, with its segments."""

from __future__ import annotations

from functools import partial

from pinecart.core.entries import Entry
from pinecart.core.errors import Taken
from pinecart.drivers.bucketed.client import GONE
from pinecart.drivers.swift.client import SwiftClient, is_large
from pinecart.drivers.swift.listing import SwiftLister
from pinecart.drivers.swift.segments import Segments


class SwiftRemover:
    def __init__(self, client: SwiftClient, lister: SwiftLister, segments: Segments) -> None:
        self._client, self._lister, self._segments = client, lister, segments

    async def remove(self, key: bytes, expected: Entry) -> bool:
        bucket, name = self._client.split(key)
        named = self._client.named(key)
        there, told = await self._client.look(key)
        if (there.entry.size, there.entry.etag) != (expected.size, expected.etag):
            raise Taken(f"{named} is not as it was when this was planned. It was not removed.")
        goes_whole = is_large(told) and not await self._lister.keeps_versions(key)
        segments = await self._segments.made_of(key) if goes_whole else []
        answer = await self._client.safely(partial(self._client.ask, "DELETE", bucket, name))
        if answer.status not in GONE:
            raise self._client.error_of(answer, what=f"Removing {named}")
        await self._segments.clear(segments)
        return False
