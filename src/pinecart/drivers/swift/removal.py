"""How an object goes: exactly this one, looked at just before, with its segments."""

from __future__ import annotations

from functools import partial

from pinecart.core.entries import Entry
from pinecart.core.errors import Halting, Refused, StoreError
from pinecart.drivers.bucketed.client import GONE
from pinecart.drivers.swift.client import SwiftClient, is_large
from pinecart.drivers.swift.listing import SwiftLister
from pinecart.drivers.swift.segments import PartsUntold, Segments
from pinecart.drivers.swift.wire import Segment


class SwiftRemover:
    def __init__(self, client: SwiftClient, lister: SwiftLister, segments: Segments) -> None:
        self._client = client
        self._lister = lister
        self._segments = segments

    async def remove(self, key: bytes, expected: Entry) -> bool:
        """The object first, then its parts, so that nothing is left that leads to missing bytes.
        Raises Refused where parts stay.
        """
        client = self._client
        named = client.named(key)
        told = await client.must_still_be(key, expected)
        segments: list[Segment] = []
        untold: PartsUntold | None = None
        if is_large(told) and not await self._lister.keeps_versions(key):
            try:
                segments = await self._segments.made_of(key)
            except PartsUntold as exc:
                untold = exc
        bucket, name = client.split(key)
        ask = partial(client.ask, "DELETE", bucket, name)
        answer = await client.safely(ask)
        if answer.status not in GONE:
            what = f"Removing {named}"
            raise client.error_of(answer, what=what)
        try:
            if untold is not None:
                raise untold
            await self._segments.clear(segments)
        except Halting:
            raise
        except StoreError as exc:
            message = f"{named} was removed, and parts of it are left there. {exc.message}"
            raise Refused(message, code="store.parts-left") from exc
        return False
