"""How a blob goes: exactly this one, under a condition."""

from __future__ import annotations

import contextlib
from functools import partial

from pinecart.core.entries import Entry
from pinecart.core.errors import Missing, Taken
from pinecart.drivers.blob.client import BlobClient
from pinecart.drivers.bucketed.bucket_facts import BucketFacts


class BlobRemover:
    def __init__(self, client: BlobClient, facts: BucketFacts) -> None:
        self._client, self._facts = client, facts

    async def remove(self, key: bytes, expected: Entry) -> bool:
        client = self._client
        bucket, name = client.split(key)
        named = client.named(key)
        told = await client.stat(key)
        now = told.entry
        if (now.size, now.etag) != (expected.size, expected.etag):
            message = f"{named} is not as it was when this was planned. It was not removed."
            raise Taken(message)
        headers = {"if-match": f'"{expected.etag}"'}
        what = f"Removing {named}"
        ask = partial(client.good, "DELETE", bucket, name, headers=headers, ok=202, what=what)
        with contextlib.suppress(Missing):  # the answer of a request before may have been lost
            await client.safely(ask)
        able = self._facts.able(bucket)
        return able.create_only
