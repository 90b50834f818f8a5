"""How a blob comes to be: in one request, or by a list of blocks."""

from __future__ import annotations

import contextlib
import secrets
from collections.abc import Sequence
from functools import partial

from pinecart.core.errors import Missing
from pinecart.core.ports import Placed, Put
from pinecart.drivers.blob.client import BlobClient
from pinecart.drivers.blob.conditional import BlobWrites
from pinecart.drivers.blob.probing import BlobProber
from pinecart.drivers.blob.wire import (
    block_id,
    block_list,
    block_told,
    parse_uncommitted,
    their_crc,
)
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import Query
from pinecart.drivers.bucketed.multipart import PartSums
from pinecart.drivers.bucketed.writing import md5_of, md5_text
from pinecart.drivers.http_message import HttpAnswer, Pieces

BLOCKS: Query = [("comp", "blocklist")]


def sum_headers(verifies: str, sums: PartSums) -> dict[str, str]:
    """verifies: which checksum the container was seen to verify; empty: none."""
    if verifies == "crc64nvme":
        return {"x-ms-content-crc64": their_crc(sums.crc)}
    if verifies == "md5":
        return {"content-md5": md5_text(sums.md5)}
    return {}


class BlobWhole:
    def __init__(self, client: BlobClient, facts: BucketFacts, writes: BlobWrites) -> None:
        self._client = client
        self._facts = facts
        self._writes = writes

    async def put(self, put: Put, body: bytes) -> Placed:
        client = self._client
        writes = self._writes
        bucket, name = client.split(put.key)
        verifies = self._facts.able(bucket).checksum
        md5 = md5_of(body) if verifies == "md5" else b""
        sums = PartSums(put.card.crc, md5)
        headers = writes.kept_headers(put)
        headers |= sum_headers(verifies, sums)
        headers["x-ms-blob-type"] = "BlockBlob"

        async def send(condition: dict[str, str]) -> HttpAnswer:
            told = headers | condition
            return await client.ask("PUT", bucket, name, headers=told, body=body)

        what = f"Writing {client.named(put.key)}"
        answer, guarded = await writes.conditionally(put, send, what=what)
        proof = "server-verified" if verifies else "size-only"
        etag = answer.headers.get("ETag", "")
        return await writes.placed(put, etag, put.card.crc, proof, guarded=guarded)


class BlobBlocks:
    """Blocks of one name are nobody's in particular until a list of them makes a blob: each is
    known by its id, which tells what it holds.
    """

    def __init__(
        self, client: BlobClient, facts: BucketFacts, writes: BlobWrites, prober: BlobProber
    ) -> None:
        self._client = client
        self._facts = facts
        self._writes = writes
        self._prober = prober

    def _verifies(self, key: bytes) -> str:
        return self._facts.able(self._client.split(key)[0]).checksum

    async def begin(self, put: Put) -> str:
        """There is nothing to be asked for."""
        return secrets.token_hex(8)

    async def there(self, key: bytes, upload: str) -> dict[tuple[int, int], str]:
        found = await self._uncommitted(key)
        ours = {block: told for block in found if (told := block_told(block))}
        return {(number, found[block]): block for block, (number, _) in ours.items()}

    async def _uncommitted(self, key: bytes) -> dict[str, int]:
        """Block → size; none where there is nothing at all of that name."""
        bucket, name = self._client.split(key)
        query: Query = [*BLOCKS, ("blocklisttype", "uncommitted")]
        what = f"Looking for unfinished parts of {self._client.named(key)}"
        try:
            answer = await self._client.safely(
                lambda: self._client.good("GET", bucket, name, query=query, what=what)
            )
        except Missing:
            return {}
        return parse_uncommitted(answer.body)

    def is_same(self, etag: str, crc: str, md5: str) -> bool:
        told = block_told(etag)
        return told is not None and told[1] == crc

    async def send(
        self, key: bytes, upload: str, number: int, body: bytes | Pieces, sums: PartSums
    ) -> str:
        bucket, name = self._client.split(key)
        block = block_id(number, sums.crc)
        await self._client.good(
            "PUT",
            bucket,
            name,
            query=[("comp", "block"), ("blockid", block)],
            headers=sum_headers(self._verifies(key), sums),
            body=body,
            ok=201,
            what=f"Writing part {number} of {self._client.named(key)}",
        )
        return block

    async def complete(
        self, put: Put, upload: str, step: int, etags: Sequence[str], crc: str
    ) -> tuple[str, bool]:
        """The list of its blocks: from then on there is the blob."""
        client = self._client
        bucket, name = client.split(put.key)
        body = block_list(etags)
        headers = self._writes.kept_headers(put)

        async def send(condition: dict[str, str]) -> HttpAnswer:
            told = headers | condition
            return await client.ask("PUT", bucket, name, query=BLOCKS, headers=told, body=body)

        what = f"Making {client.named(put.key)} of its parts"
        answer, guarded = await self._writes.conditionally(put, send, what=what)
        etag = answer.headers.get("ETag", "")
        return etag, guarded

    async def placed(self, put: Put, etag: str, crc: str, *, guarded: bool) -> Placed:
        proof = "server-verified" if self._verifies(put.key) else "size-only"
        return await self._writes.placed(put, etag, crc, proof, guarded=guarded)

    async def abort(self, key: bytes, upload: str) -> None:
        await self.clear(key, "")

    async def clear(self, key: bytes, since: str) -> int:
        """Blocks go when their name gets a blob; where there is none, one of no bytes is made of
        them, and taken away at once, if the storage is known to hold the conditions of both. Nobody
        else's are touched. Where there is a blob, they go with its next change, or within a week.
        """
        blocks = await self._uncommitted(key)
        if not blocks or not all(map(block_told, blocks)):
            return 0
        able = await self._prober.probe(key[: key.rfind(b"/") + 1])
        if not able.create_only or not await self._client.is_absent(key):
            return 0
        bucket, name = self._client.split(key)
        answer = await self._client.ask(
            "PUT",
            bucket,
            name,
            query=BLOCKS,
            headers={"if-none-match": "*"},
            body=block_list([]),
        )
        if answer.status == 201:
            etag = answer.headers.get("ETag", "")
            with contextlib.suppress(Missing):
                await self._take_away(key, etag)
            return 1
        if answer.status in (409, 412):
            return 0
        raise self._client.error_of(
            answer, what=f"Taking away unfinished parts of {self._client.named(key)}"
        )

    async def _take_away(self, key: bytes, etag: str) -> None:
        client = self._client
        bucket, name = client.split(key)
        headers = {"if-match": etag}
        what = f"Taking away unfinished parts of {client.named(key)}"
        ask = partial(client.good, "DELETE", bucket, name, headers=headers, ok=202, what=what)
        await client.safely(ask)
