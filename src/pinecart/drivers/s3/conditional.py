"""What all writes to an S3-compatible store have in common: a condition, and a look at what it
kept.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from urllib.parse import quote, urlencode

from pinecart.core.errors import Corrupt, Taken
from pinecart.core.places import show
from pinecart.core.ports import Put
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import GONE, Query
from pinecart.drivers.http_message import HttpAnswer
from pinecart.drivers.s3.client import S3Client
from pinecart.drivers.s3.wire import root_of


class ConditionalWrites:
    """Every write has its condition where the store knows one, and is looked at just before where
    it doesn't.
    """

    def __init__(self, client: S3Client, facts: BucketFacts) -> None:
        self._client, self._facts = client, facts

    async def lost(self, put: Put) -> str:
        """Which headers of the object its bucket did not keep: looked at once for each header, and
        remembered.
        """
        if not put.headers:
            return ""
        bucket, _ = self._client.split(put.key)
        kept, drops = (
            self._facts.kept.setdefault(bucket, set()),
            self._facts.dropped.setdefault(bucket, set()),
        )
        if unknown := put.headers.keys() - kept - drops:
            there = (await self._client.stat(put.key)).headers
            for name in unknown:
                (kept if there.get(name) == put.headers[name] else drops).add(name)
        return ", ".join(sorted(put.headers.keys() & drops))

    async def etag(self, key: bytes, told: str) -> str:
        """Without the quotes; where an answer tells none, it is looked up: else the next run would
        take it for another object.
        """
        return told.strip('"') or (await self._client.stat(key)).entry.etag

    def kept_headers(self, put: Put) -> dict[str, str]:
        """What is kept with an object: its own metadata, our card, its content type."""
        kept = {f"x-amz-meta-{k}": v for k, v in put.metadata.items()} | {
            "x-amz-meta-pinecart": put.card.text()
        }
        if put.extra.tags:
            kept["x-amz-tagging"] = urlencode(sorted(put.extra.tags.items()), quote_via=quote)
        if put.extra.storage_class:
            kept["x-amz-storage-class"] = put.extra.storage_class
        if put.content_type:
            kept["content-type"] = put.content_type
        return kept | dict(put.headers)

    async def conditionally(
        self,
        put: Put,
        send: Callable[[dict[str, str]], Awaitable[HttpAnswer]],
        *,
        guards: bool = True,
    ) -> tuple[HttpAnswer, bool]:
        """Send a write with the condition it has; where the store knows none, look just before.

        Whether it was guarded.
        """
        bucket, _ = self._client.split(put.key)
        guarded = put.if_absent and self._facts.able(bucket).create_only and guards
        if put.expected is not None:
            now = (await self._client.stat(put.key)).entry
            if now.etag != put.expected.etag:
                raise Taken(
                    f"{self._client.named(put.key)} is not as it was when this was planned. The "
                    "next run looks again."
                )
        elif put.if_absent and not guarded:
            await self._must_be_absent(put.key)
        answer = await send({"if-none-match": "*"} if guarded else {})
        if answer.status == 501 and guarded:
            self._facts.learn(bucket, create_only=False)
            return await self.conditionally(put, send)
        if answer.status != 200 or is_error(answer.body):
            raise self._client.error_of(
                answer,
                what=f"Writing {self._client.named(put.key)}",
            )
        return answer, guarded

    async def abort(self, bucket: str, name: bytes, upload: str) -> None:
        """Until the store says that it is gone. Raises StoreError."""
        client = self._client
        named = f"{client.name}/{bucket}/{show(name)}"
        query: Query = [("uploadId", upload)]

        async def one() -> None:
            answer = await client.ask("DELETE", bucket, name, query=query)
            if answer.status not in GONE:
                what = f"Taking away unfinished parts of {named}"
                raise self._client.error_of(answer, what=what)

        await self._client.safely(one)

    async def must_have_size(self, put: Put) -> None:
        found = await self._client.stat(put.key)
        size = found.entry.size
        if size != put.size:
            named = self._client.named(put.key)
            told = f"{put.size} bytes were sent, {size} are there"
            raise Corrupt(f"{named}: {told}.")

    async def _must_be_absent(self, key: bytes) -> None:
        if await self._client.is_absent(key):
            return
        raise Taken(
            f"{self._client.named(key)} appeared there meanwhile. The next run looks again."
        )


def is_error(body: bytes) -> bool:
    """An error inside a 200 answer is told by its root element, never by a word somewhere in it."""
    return body.lstrip()[:200].startswith((b"<?xml", b"<Error")) and root_of(body) == "Error"
