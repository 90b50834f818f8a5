"""How a blob goes: exactly this one, under a condition."""

from __future__ import annotations

import contextlib
from functools import partial

from pinecart.core.entries import Entry
from pinecart.core.errors import Missing
from pinecart.drivers.blob.client import BlobClient
from pinecart.drivers.bucketed.bucket_facts import BucketFacts


class BlobRemover:
    def __init__(self, client: BlobClient, facts: BucketFacts) -> None:
        self._client = client
        self._facts = facts

    async def remove(self, key: bytes, expected: Entry) -> bool:
        client = self._client
        bucket, name = client.split(key)
        named = client.named(key)
        await client.must_still_be(key, expected)
        headers = {"if-match": f'"{expected.etag}"'}
        what = f"Removing {named}"
        ask = partial(client.good, "DELETE", bucket, name, headers=headers, ok=202, what=what)
        with contextlib.suppress(Missing):  # the answer of a request before may have been lost
            await client.safely(ask)
        able = self._facts.able(bucket)
        return able.create_only
