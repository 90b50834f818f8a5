"""Objects of a store of buckets, opened for reading, and what vouches for their bytes.

Over a line that isn't TLS a bit may change on the way, and what was written from it would read back
the same. So what was read is compared with what the store has: its full-object checksum, the
checksum in our own card, its MD5, or an ETag that turns out to be that (of the object, or of the
MD5s of its parts); where there is none of these, it is read twice.
"""

from __future__ import annotations

import asyncio
import hashlib
import random
import re
import time
from collections.abc import AsyncIterator, Mapping

from pinecart.core.checksum import Crc64, crc_of
from pinecart.core.entries import Entry
from pinecart.core.errors import Busy, Changed, Corrupt
from pinecart.core.keeping import Extra, Keep
from pinecart.core.ports import HELD_BYTES, WriteStamp
from pinecart.drivers.bucketed.client import BucketClient

_MD5 = re.compile(r"[0-9a-f]{32}")


class OpenedObject:
    """An object opened for reading: every range asks for the same ETag."""

    def __init__(self, client: BucketClient, key: bytes, entry: Entry, version: str = "") -> None:
        """entry: what is expected there, and held to with each request.   version: of those that
        are kept; empty: the one that is there now.
        """
        self._client = client
        self._version = version
        self._key = key
        self.entry = entry
        self.card: WriteStamp | None = None
        self.content_type = ""
        self.metadata = dict[str, str]()
        self.headers = dict[str, str]()
        self._crc = self._md5 = ""
        self._asked = False
        self._md5s: dict[
            int, bytes
        ] = {}  # of pieces that may be the parts it was made of, by their start

    async def whole(self) -> bytes:
        """Compared with what the store vouches for. Raises Corrupt if it is something else."""
        try:
            body = await self._at_once()
        except Busy as exc:  # cut, or asked to go slower: piece by piece, with growing waits
            await asyncio.sleep(self._client.retry.wait_s(1, exc.wait_s, random.random))
            body = b"".join([c async for c in self.chunks()])
        if (self._crc or not self._client.is_safe) and not self._vouched_for(crc_of(body), body):
            await self._compare_again(crc_of(body))
        return body

    def _vouched_for(self, crc: str, body: bytes = b"") -> bool:
        """Whether the store tells of just these bytes.

        Raises Corrupt if its own checksum is of others.
        """
        if self._crc and self._crc != crc:
            raise self._corrupt()
        if self._crc or (self.card is not None and self.card.crc == crc):
            return True
        told = self._md5 or self.entry.etag
        if body and _MD5.fullmatch(told):
            md5 = hashlib.md5(body, usedforsecurity=False)
            return md5.hexdigest() == told
        return not self.entry.size

    def _made_of_parts(self) -> bool:
        """Whether its ETag is the MD5 of the MD5s of the pieces that were read; False as well
        where not all of them were.
        """
        md5s = []
        for start in range(0, self.entry.size, HELD_BYTES):
            if start not in self._md5s:
                return False
            md5s.append(self._md5s[start])
        return self._client.etag_of_parts(md5s) == self.entry.etag

    async def _compare_again(self, crc: str) -> None:
        """Read it all once more: only if it comes the same again is it what the store has."""
        again = Crc64()
        async for chunk in self.chunks():
            again.add(chunk)
        if again.text != crc:
            raise self._corrupt()

    def _corrupt(self) -> Corrupt:
        return Corrupt(
            f"{self._client.named(self._key)}: the bytes did not arrive as the store has "
            "them. If this stays, the line is not to be trusted."
        )

    async def _at_once(self) -> bytes:
        """All of a small object by one request. Raises Busy where fewer bytes came, and Changed
        where there are more than were listed.
        """
        answer = await self._client.get_at_once(self._key, self.entry, version=self._version)
        if len(answer.body) < self.entry.size:
            raise Busy(
                f"{self._client.named(self._key)}: the answer was cut short.", code="store.cut"
            )
        if len(answer.body) > self.entry.size:
            raise self._longer()
        self._keep(answer.headers)
        return answer.body

    def _longer(self) -> Changed:
        """As where an object is put together of others as it is read."""
        named = self._client.named(self._key)
        return Changed(f"{named} is longer than it was listed. It is tried again in the next run.")

    async def chunks(self) -> AsyncIterator[bytes]:
        """A cut line goes on where it was, by range and If-Match."""
        at = 0
        tried = 1
        retry = self._client.retry
        began = time.monotonic()
        while at < self.entry.size or at == 0:
            try:
                async with self._client.get(
                    self._key, self.entry.etag, at, version=self._version
                ) as (headers, chunks):
                    self._keep(headers)
                    async for chunk in chunks:
                        at += len(chunk)
                        if at > self.entry.size:
                            raise self._longer()
                        yield chunk
                if at < self.entry.size:
                    raise Busy(
                        f"{self._client.named(self._key)}: the answer was cut short.",
                        code="store.cut",
                    )
                return
            except Busy as exc:
                if retry.is_over(tried, time.monotonic() - began):
                    raise
                await asyncio.sleep(retry.wait_s(tried, exc.wait_s, random.random))
                tried += 1

    def _keep(self, headers: Mapping[str, str]) -> None:
        """What the answer tells of the object; its checksums where it brings the whole of it."""
        told = self._client.told(headers)
        self.card = told.card
        self.content_type = told.content_type
        self.metadata = told.metadata
        self.headers = told.headers
        if "Content-Range" not in headers:
            self._crc = told.crc
            self._md5 = told.md5

    async def look(self) -> None:
        """Its headers alone, once, where no answer has told them yet."""
        if not self._asked:
            stat = await self._client.stat(self._key, self._version)
            self.card = stat.card
            self.content_type = stat.content_type
            self.metadata = stat.metadata
            self.headers = stat.headers
            self._crc = stat.crc
            self._asked = True

    async def piece(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        await self.look()
        found = await self._client.safely(lambda: self._range(start, size, into))
        if (
            self._sums_pieces
            and start % HELD_BYTES == 0
            and size == min(HELD_BYTES, self.entry.size - start)
        ):
            md5 = await asyncio.to_thread(hashlib.md5, found, usedforsecurity=False)
            self._md5s[start] = md5.digest()
        return found

    @property
    def _sums_pieces(self) -> bool:
        is_told = bool(self._crc) or self._client.is_safe
        return not is_told and self._client.may_be_of_parts(self.entry.etag)

    async def _range(self, start: int, size: int, into: bytearray | None) -> bytes:
        """A part of it, straight into the room that is given. Raises Busy where fewer bytes came
        than were asked for.
        """
        answer = await self._client.get_at_once(
            self._key, self.entry, start, start + size - 1, self._version, into
        )
        if len(answer.body) != size:
            raise Busy(
                f"{self._client.named(self._key)}: the answer was cut short.", code="store.cut"
            )
        return answer.body

    async def besides(self, keep: Keep) -> Extra:
        if keep.tags:
            return Extra(tags=await self._client.tags(self._key))
        return Extra()

    async def verify(self, crc: str = "") -> None:
        """Every byte came under If-Match of one ETag; that they came as they are is what `crc` is
        asked for.
        """
        if (
            crc
            and (self._crc or not self._client.is_safe)
            and not (self._vouched_for(crc) or self._made_of_parts())
        ):
            await self._compare_again(crc)
