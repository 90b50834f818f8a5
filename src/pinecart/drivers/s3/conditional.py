"""What all writes to an S3-compatible store have in common: a condition, and a look at what it
kept.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from urllib.parse import quote, urlencode

from pinecart.core.ports import Put
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.writes import ObjectWrites
from pinecart.drivers.http_message import HttpAnswer
from pinecart.drivers.s3.client import S3Client
from pinecart.drivers.s3.wire import root_of


class ConditionalWrites(ObjectWrites):
    """Every write has its condition where the store knows one, and is looked at just before where
    it doesn't.
    """

    def __init__(self, client: S3Client, facts: BucketFacts) -> None:
        super().__init__(client, facts)
        self._client = client

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
        if not guarded:
            await self.must_be_as_planned(put)
        answer = await send({"if-none-match": "*"} if guarded else {})
        if answer.status == 501 and guarded:
            self._facts.learn(bucket, create_only=False)
            return await self.conditionally(put, send)
        if answer.status != 200 or is_error(answer.body):
            raise self._client.error_of(answer, what=f"Writing {self._client.named(put.key)}")
        return answer, guarded


def is_error(body: bytes) -> bool:
    """An error inside a 200 answer is told by its root element, never by a word somewhere in it."""
    return body.lstrip()[:200].startswith((b"<?xml", b"<Error")) and root_of(body) == "Error"
