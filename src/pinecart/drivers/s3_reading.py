"""Objects of an S3-compatible store, opened for reading."""

from __future__ import annotations

import asyncio
import random
from collections.abc import AsyncIterator, Mapping

from pinecart.core.checksum import crc_of
from pinecart.core.entries import Entry
from pinecart.core.errors import Busy, Corrupt
from pinecart.core.keeping import Extra, Keep
from pinecart.core.ports import Card
from pinecart.drivers.s3_asking import Asking, metadata_of


class Object:
    """An object opened for reading: every range asks for the same ETag."""

    def __init__(self, store: Asking, key: bytes, entry: Entry, version: str = "") -> None:
        self._store, self._version = store, version
        self._key = key
        self.entry = entry
        self.card: Card | None = None
        self.content_type, self.metadata = "", dict[str, str]()
        self._crc = ""

    async def whole(self) -> bytes:
        """Checked against the store's own checksum, where it tells one."""
        try:
            body = await self._at_once()
        except Busy as exc:  # cut, or asked to go slower: piece by piece, with growing waits
            await asyncio.sleep(self._store._retry.wait_s(1, exc.wait_s, random.random))
            body = b"".join([c async for c in self.chunks()])
        if self._crc and crc_of(body) != self._crc:
            raise Corrupt(f"{self._store._named(self._key)}: the bytes did not arrive as the store has them.")
        return body

    async def _at_once(self) -> bytes:
        answer = await self._store._get_at_once(self._key, self.entry, version=self._version)
        if len(answer.body) < self.entry.size:
            raise Busy(f"{self._store._named(self._key)}: the answer was cut short.", code="store.cut")
        self._keep(answer.headers)
        return answer.body

    async def chunks(self) -> AsyncIterator[bytes]:
        """A cut line goes on where it was, by range and If-Match."""
        at, tried, retry = 0, 1, self._store._retry
        while at < self.entry.size or at == 0:
            try:
                async with self._store._get(self._key, self.entry.etag, at, version=self._version) as (headers, chunks):
                    self._keep(headers)
                    async for chunk in chunks:
                        at += len(chunk)
                        yield chunk
                if at < self.entry.size:
                    raise Busy(f"{self._store._named(self._key)}: the answer was cut short.", code="store.cut")
                return
            except Busy as exc:
                if tried == retry.times:
                    raise
                await asyncio.sleep(retry.wait_s(tried, exc.wait_s, random.random))
                tried += 1

    def _keep(self, headers: Mapping[str, str]) -> None:
        self._crc = headers.get("x-amz-checksum-crc64nvme", "") if "Content-Range" not in headers else self._crc
        self.metadata = metadata_of(headers)
        self.card = Card.parse(self.metadata.pop("pinecart", None))
        self.content_type = headers.get("Content-Type", "")

    async def piece(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        return await self._store._safely(lambda: self._range(start, size, into))

    async def _range(self, start: int, size: int, into: bytearray | None) -> bytes:
        answer = await self._store._get_at_once(self._key, self.entry, start, start + size - 1, self._version, into)
        self._keep(answer.headers)
        if len(answer.body) != size:
            raise Busy(f"{self._store._named(self._key)}: the answer was cut short.", code="store.cut")
        return answer.body

    async def besides(self, keep: Keep) -> Extra:
        return Extra(tags=await self._store.tags(self._key)) if keep.tags else Extra()

    async def verify(self) -> None:
        """Nothing to ask: every byte came under If-Match of one ETag."""
