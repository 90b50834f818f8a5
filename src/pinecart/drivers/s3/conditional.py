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
from pinecart.drivers.s3.probing import S3Prober
from pinecart.drivers.s3.wire import root_of

NOT_AS_PLANNED = ("store.not-as-planned", "store.missing")


class ConditionalWrites(ObjectWrites):
    """Every write has its condition where the store knows one, and is looked at just before where
    it doesn't.
    """

    def __init__(self, client: S3Client, facts: BucketFacts, prober: S3Prober) -> None:
        super().__init__(client, facts)
        self._client = client
        self._prober = prober

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
        if guards:
            condition = await self.condition_of(put)
        else:
            condition = {}
        if not condition:
            await self.must_be_as_planned(put)
        answer = await send(condition)
        if answer.status == 501 and condition:
            self._know_no_condition(put)
            return await self.conditionally(put, send)
        if answer.status == 200 and not is_error(answer.body):
            return answer, bool(condition)
        error = self._client.error_of(answer, what=f"Writing {self._client.named(put.key)}")
        if put.expected is None or not condition or error.code not in NOT_AS_PLANNED:
            raise error
        # Some stores hold it against another ETag than they tell.
        await self.must_be_as_planned(put)
        written = await self.conditionally(put, send, guards=False)
        self._know_no_condition(put)
        return written

    async def condition_of(self, put: Put) -> dict[str, str]:
        """The header that guards a write; empty: the bucket wasn't seen to hold one."""
        bucket, _ = self._client.split(put.key)
        if put.if_absent and self._facts.able(bucket).create_only:
            return {"if-none-match": "*"}
        if put.expected is None:
            return {}
        is_held = await self._prober.guards_replacements(put.key, put.uploads)
        if is_held:
            return {"if-match": f'"{put.expected.etag}"'}
        return {}

    def _know_no_condition(self, put: Put) -> None:
        """The store said that it has none of that kind; it isn't asked again for this bucket."""
        bucket, _ = self._client.split(put.key)
        if put.if_absent:
            self._facts.learn(bucket, create_only=False)
        else:
            self._facts.guards.replacements[bucket] = False


def is_error(body: bytes) -> bool:
    """An error inside a 200 answer is told by its root element, never by a word somewhere in it."""
    return body.lstrip()[:200].startswith((b"<?xml", b"<Error")) and root_of(body) == "Error"
