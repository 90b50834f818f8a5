"""What all writes to blob storage have in common: a condition, and what is kept with an object."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from urllib.parse import quote, urlencode

from pinecart.core.ports import Put
from pinecart.drivers.blob.client import KEPT, BlobClient
from pinecart.drivers.blob.wire import metadata_told
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.writes import ObjectWrites
from pinecart.drivers.http_message import HttpAnswer

MADE = (201, 202)


class BlobWrites(ObjectWrites):
    """Every write has its condition where the storage was not seen to take no notice of it; there
    it is looked at just before.
    """

    def __init__(self, client: BlobClient, facts: BucketFacts) -> None:
        super().__init__(client, facts)
        self._client = client

    def kept_headers(self, put: Put) -> dict[str, str]:
        """What the blob keeps of its source: metadata, our card, headers, type, tags and tier."""
        metadata, _ = metadata_told(put.metadata)
        kept = {f"x-ms-meta-{name}": value for name, value in metadata.items()}
        kept["x-ms-meta-pinecart"] = put.card.text()
        for name, value in put.headers.items():
            if name in KEPT:
                kept[f"x-ms-blob-{name}"] = value
        if put.content_type:
            kept["x-ms-blob-content-type"] = put.content_type
        return kept | chosen_headers(put)

    async def lost(self, put: Put) -> str:
        """It is known of each."""
        headers = [name for name in put.headers if name not in KEPT]
        _, metadata = metadata_told(put.metadata)
        shown = [f"the metadata {name!r}" for name in sorted(metadata)]
        return ", ".join([*sorted(headers), *shown])

    async def conditionally(
        self, put: Put, send: Callable[[dict[str, str]], Awaitable[HttpAnswer]], *, what: str
    ) -> tuple[HttpAnswer, bool]:
        """The answer, and whether the write was guarded."""
        bucket, _ = self._client.split(put.key)
        holds = self._facts.able(bucket).create_only
        condition = _condition_of(put) if holds else {}
        if not holds:
            await self.must_be_as_planned(put)
        answer = await send(condition)
        if answer.status not in MADE:
            raise self._client.error_of(answer, what=what)
        self._facts.versioned[bucket] = bool(answer.headers.get("x-ms-version-id"))
        return answer, bool(condition)


def chosen_headers(put: Put) -> dict[str, str]:
    """What a job has chosen for what it writes."""
    chosen = {}
    if put.extra.tags:
        chosen["x-ms-tags"] = urlencode(sorted(put.extra.tags.items()), quote_via=quote)
    if put.extra.storage_class:
        chosen["x-ms-access-tier"] = put.extra.storage_class
    return chosen


def _condition_of(put: Put) -> dict[str, str]:
    """Empty where it may replace whatever is there: the plan said so."""
    if put.expected is not None:
        return {"if-match": f'"{put.expected.etag}"'}
    if put.if_absent:
        return {"if-none-match": "*"}
    return {}
