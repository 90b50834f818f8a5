"""Blobs copied by the storage itself: their bytes never come to us."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Mapping
from functools import partial

from pinecart.core.entries import Entry
from pinecart.core.errors import Busy, Changed, Corrupt, Refused, StoreError, Taken
from pinecart.core.ports import Placed, Put
from pinecart.drivers.blob.client import BlobClient
from pinecart.drivers.blob.conditional import BlobWrites, chosen_headers
from pinecart.drivers.bucketed.client import Query
from pinecart.drivers.http_message import HttpAnswer

FIRST_LOOK_S = 0.1
LAST_LOOK_S = 3.0
NO_GOOD = ("aborted", "failed")


class BlobCopies:
    """Inside one account, with the same credentials for both."""

    def __init__(self, client: BlobClient, writes: BlobWrites) -> None:
        self._client = client
        self._writes = writes

    async def copy(
        self, put: Put, source: BlobClient, source_key: bytes, entry: Entry, version: str = ""
    ) -> Placed | None:
        """What is kept with the source goes along as it is."""
        client = self._client
        bucket, name = client.split(put.key)
        headers = chosen_headers(put) | {
            "x-ms-copy-source": source.url(source_key, version),
            "x-ms-source-if-match": f'"{entry.etag}"',
        }

        async def send(condition: dict[str, str]) -> HttpAnswer:
            return await client.ask("PUT", bucket, name, headers=headers | condition)

        what = f"Copying to {client.named(put.key)}"
        try:
            answer, guarded = await self._writes.conditionally(put, send, what=what)
        except Taken as exc:
            if (await source.stat(source_key, version)).entry.etag != entry.etag:
                raise Changed(f"{source.named(source_key)} changed before it was copied.") from exc
            raise
        except Refused:
            return None  # these credentials may not, or it does not know how: it goes through us
        await self._ended(put.key, answer.headers)
        return await self._compared(put, guarded=guarded)

    async def _ended(self, key: bytes, told: Mapping[str, str]) -> None:
        """Waits until the storage has copied it. Raises Busy where it gave up."""
        copy_id = told.get("x-ms-copy-id", "")
        try:
            last = await self._polled(key, copy_id, told)
        except asyncio.CancelledError:
            await asyncio.shield(self._given_up(key, copy_id))
            raise
        status = last.get("x-ms-copy-status", "success")
        if status != "success":
            await self._cleared(key, copy_id)
            why = last.get("x-ms-copy-status-description", "") or status
            raise Busy(f"{self._client.named(key)}: the storage's own copy has ended: {why}.")

    async def _polled(self, key: bytes, copy_id: str, told: Mapping[str, str]) -> Mapping[str, str]:
        """What is told of the copy once it is no longer under way."""
        client = self._client
        wait_s = FIRST_LOOK_S
        bucket, name = client.split(key)
        named = client.named(key)
        what = f"Looking at the copy {named}"
        look = partial(client.good, "HEAD", bucket, name, what=what)
        while told.get("x-ms-copy-status") == "pending":
            await asyncio.sleep(wait_s)
            wait_s = min(wait_s * 2, LAST_LOOK_S)
            answer = await client.safely(look)
            told = answer.headers
            copy_now = told.get("x-ms-copy-id", copy_id)
            if copy_now != copy_id:
                raise Taken(f"{named} was written by somebody else meanwhile.")
        return told

    async def _given_up(self, key: bytes, copy_id: str) -> None:
        """Stopped, where it can be, and what it left taken away."""
        bucket, name = self._client.split(key)
        query: Query = [("comp", "copy"), ("copyid", copy_id)]
        headers = {"x-ms-copy-action": "abort"}
        with contextlib.suppress(StoreError):
            await self._client.ask("PUT", bucket, name, query=query, headers=headers)
        await self._cleared(key, copy_id)

    async def _cleared(self, key: bytes, copy_id: str) -> None:
        """A copy that came to no good end leaves a blob without bytes under the name. Where even
        that can't be taken away, the next run tells what lies there.
        """
        client = self._client
        bucket, name = client.split(key)
        with contextlib.suppress(StoreError):
            there = (await client.ask("HEAD", bucket, name)).headers
            is_ours = there.get("x-ms-copy-id") == copy_id and bool(copy_id)
            etag = there.get("ETag", "")
            if is_ours and etag and there.get("x-ms-copy-status") in NO_GOOD:
                await client.ask("DELETE", bucket, name, headers={"if-match": etag})

    async def _compared(self, put: Put, *, guarded: bool) -> Placed:
        """The copy was made of just this content, says the storage; by its size, say we."""
        there = await self._client.stat(put.key)
        if there.entry.size != put.size:
            named = self._client.named(put.key)
            raise Corrupt(f"{named}: the storage's own copy is not the same as its source.")
        told = there.card.crc if there.card else ""
        crc = told or put.card.crc
        entry = there.entry._replace(version="")
        return Placed(entry, "server-copy", guarded, crc)
