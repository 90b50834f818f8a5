"""Objects copied by the store itself: their bytes never come to us."""

from __future__ import annotations

from functools import partial

from pinecart.core.entries import Entry
from pinecart.core.errors import Corrupt, Refused, Taken
from pinecart.core.ports import Placed, Put, Stat, WriteStamp
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import Query
from pinecart.drivers.bucketed.multipart import MultipartUpload
from pinecart.drivers.pieces import piece_size
from pinecart.drivers.s3.client import S3Client
from pinecart.drivers.s3.conditional import ConditionalWrites, is_error
from pinecart.drivers.s3.copy_source import CopySource
from pinecart.drivers.s3.parts import S3Parts
from pinecart.drivers.s3.probing import S3Prober
from pinecart.drivers.s3.sizes import Sizes
from pinecart.drivers.s3.wire import text_of

COPY_PART = 1 << 30


class ServerCopy:
    """Between two places of one endpoint, with one key for both."""

    def __init__(
        self,
        client: S3Client,
        facts: BucketFacts,
        writes: ConditionalWrites,
        parts: S3Parts,
        sizes: Sizes,
        prober: S3Prober,
    ) -> None:
        self._client = client
        self._facts = facts
        self._writes = writes
        self._parts = parts
        self._sizes = sizes
        self._prober = prober

    async def copy(
        self, put: Put, source: S3Client, source_key: bytes, entry: Entry, version: str = ""
    ) -> Placed | None:
        """The store copies by itself; in parts what is above 5 GiB or was made of parts."""
        of = CopySource(source, source_key, entry, version)
        where = {
            "x-amz-copy-source": of.path,
            "x-amz-copy-source-if-match": f'"{entry.etag}"',
        }
        try:
            # An object of parts is copied in parts: some stores list another ETag for its whole
            # copy than they answer.
            if put.size > self._sizes.copied_whole or "-" in entry.etag:
                placed = await self._copy_in_parts(put, where, of)
            else:
                if not await self._prober.guards_sources(put.key, of, put.uploads):
                    await of.must_be_as_planned()
                placed = await self._copy_whole(put, where, of)
        except Taken:
            await of.must_be_as_planned()
            if put.if_absent and await self._client.is_absent(put.key):
                # Some stores hold the condition against the source of a copy.
                bucket, _ = self._client.split(put.key)
                self._facts.guards.copies[bucket] = False
                return await self.copy(put, source, source_key, entry, version)
            raise
        except Refused:
            # This key may not, or this store does not know how: the bytes go through us.
            return None
        if placed.entry.etag != entry.etag:  # else the store itself tells that it is the same
            now = await of.must_be_as_planned()
            placed = await self._compared(placed, put, now)
        if put.extra.tags and await self._client.tags(put.key) != dict(put.extra.tags):
            return placed._replace(lost="tags")
        return placed

    async def _compared(self, placed: Placed, put: Put, of: Stat) -> Placed:
        """A copy whose ETag says nothing of its source: by checksums, where both have one. Raises
        Corrupt.
        """
        there = await self._client.stat(put.key)
        stamped = of.card.crc if of.card else ""
        known = of.crc or stamped
        both_known = there.crc and known
        if there.entry.size != put.size or (both_known and there.crc != known):
            named = self._client.named(put.key)
            raise Corrupt(f"{named}: the store's own copy is not the same as its source.")
        proof = "server-copy" if both_known else "size-only"
        return placed._replace(proof=proof, crc=there.crc or known)

    async def _copy_whole(self, put: Put, where: dict[str, str], of: CopySource) -> Placed:
        """What is kept with the source goes along as it is, its tags too: nothing has to be asked
        for before.
        """
        bucket, name = self._client.split(put.key)
        headers = dict(where)
        if put.extra.storage_class:
            headers["x-amz-storage-class"] = put.extra.storage_class
        prober = self._prober
        is_guarded = bool(await self._writes.condition_of(put))
        guards = is_guarded and await prober.guards_copies(put.key, of, put.uploads)
        answer, guarded = await self._writes.conditionally(
            put,
            lambda condition: self._client.ask("PUT", bucket, name, headers=headers | condition),
            guards=guards,
        )
        etag = text_of(answer.body, "ETag")
        crc = text_of(answer.body, "ChecksumCRC64NVME")
        whole = put._replace(headers={})  # what it has goes along
        return await self._writes.placed(
            whole, etag, crc or put.card.crc, "server-copy", guarded=guarded
        )

    async def _copy_in_parts(self, put: Put, where: dict[str, str], of: CopySource) -> Placed:
        now = await of.must_be_as_planned()
        card = put.card
        if now.card:
            card = WriteStamp(card.decision_id, now.card.modified_ns, now.crc or now.card.crc)
        put = put._replace(
            card=card,
            metadata={**now.metadata, **put.metadata},
            content_type=now.content_type,
            headers=now.headers,
        )

        source = _PartsOfObject(self, put.key, where, of)
        step = max(piece_size(put.size), COPY_PART)
        upload = MultipartUpload(self._client, self._parts, put, step, source)
        placed = await upload.carry_out()
        return placed._replace(proof="server-copy")

    async def copy_part(
        self, key: bytes, where: dict[str, str], upload: str, number: int, start: int, size: int
    ) -> str:
        """The store copies a range of another object as a part. Its ETag."""
        client = self._client
        bucket, name = client.split(key)
        last = start + size - 1
        headers = dict(where)
        headers["x-amz-copy-source-range"] = f"bytes={start}-{last}"
        query: Query = [("partNumber", str(number)), ("uploadId", upload)]
        what = f"Copying part {number} of {client.named(key)}"
        ask = partial(client.good, "PUT", bucket, name, query=query, headers=headers, what=what)
        answer = await client.safely(ask)
        if is_error(answer.body):
            raise client.error_of(answer, what=what)
        return text_of(answer.body, "ETag")


class _PartsOfObject:
    """Ranges of another object of the same system, which the store copies by itself."""

    def __init__(self, copy: ServerCopy, key: bytes, where: dict[str, str], of: CopySource) -> None:
        """where: headers that name the source and what it must still be.   of: what is copied, part
        by part, within the store.
        """
        self._copy = copy
        self._key = key
        self._where = where
        self._of = of

    async def send(self, upload: str, number: int, start: int, size: int) -> tuple[str, str]:
        etag = await self._copy.copy_part(self._key, self._where, upload, number, start, size)
        return etag, ""

    async def sums(self, start: int, size: int) -> None:
        """What a part of ours holds can't be told without reading it."""

    async def verify(self, crc: str) -> None:
        """Every part was asked for under If-Match of one ETag; not every store takes notice."""
        await self._of.must_be_as_planned()
