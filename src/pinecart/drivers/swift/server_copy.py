"""Objects copied by Swift itself: their bytes never come to us."""

from __future__ import annotations

import asyncio
import contextlib
from functools import partial

from pinecart.core.entries import Entry
from pinecart.core.errors import Busy, Changed, Corrupt, Refused, StoreError
from pinecart.core.ports import Placed, Put, Stat
from pinecart.drivers.http_message import HttpAnswer
from pinecart.drivers.swift.client import EXPIRY, SwiftClient, is_large
from pinecart.drivers.swift.conditional import SwiftWrites
from pinecart.drivers.swift.removal import SwiftRemover
from pinecart.drivers.swift.wire import SEGMENTS, Segment, encoded, segment_name
from pinecart.drivers.swift.writing import SwiftSegments

LARGEST = 5 << 30  # bytes that one object holds, and so that are copied at once


class SwiftCopies:
    """Inside one account, signed in as one and the same."""

    def __init__(
        self, client: SwiftClient, writes: SwiftWrites, parts: SwiftSegments, remover: SwiftRemover
    ) -> None:
        self._client = client
        self._writes = writes
        self._parts = parts
        self._remover = remover

    async def copy(
        self, put: Put, source: SwiftClient, source_key: bytes, entry: Entry, version: str = ""
    ) -> Placed | None:
        """What is kept with the source goes along as it is. A large object is copied segment by
        segment: a copy of its manifest alone would lose its bytes with the source.
        """
        of, headers = await source.look(source_key, version)
        if of.entry.etag != entry.etag:
            raise Changed(f"{source.named(source_key)} changed before it was copied.")
        try:
            if is_large(headers):
                segments = await source.segments(source_key, version)
                placed = await self._of_segments(put, of, segments)
            elif put.size <= LARGEST:
                placed = await self._whole(put, source, source_key, of, version)
            else:
                return None
        except Refused:
            return None  # this account may not, or the store does not know how: it goes through us
        if placed is not None and placed.entry.etag != entry.etag:
            if put.if_absent:  # it was made just now, of something else than was meant
                await self._remover.remove(put.key, placed.entry)
            raise Changed(f"{source.named(source_key)} changed while it was copied.")
        return placed

    async def _whole(
        self, put: Put, source: SwiftClient, source_key: bytes, of: Stat, version: str
    ) -> Placed:
        client = self._client
        bucket, name = client.split(put.key)
        named = source.named(source_key)
        where = encoded(*source.split(source_key))
        if version:
            where += f"?{source.dialect.version}={version}"
        # conditions of a copy are held against its source
        headers = {"x-copy-from": where, "if-match": f'"{of.entry.etag}"'}
        if EXPIRY in of.headers:  # not every store takes it along
            headers[EXPIRY] = of.headers[EXPIRY]

        async def send(condition: dict[str, str]) -> HttpAnswer:
            """Raises Changed where the source is no longer what was planned: it is held to its
            ETag.
            """
            all_headers = headers | condition
            answer = await client.ask("PUT", bucket, name, headers=all_headers)
            if answer.status == 412:
                raise Changed(f"{named} changed before it was copied.")
            return answer

        what = f"Copying to {client.named(put.key)}"
        answer, guarded = await self._writes.conditionally(put, send, what=what, guards=False)
        told = of.card.crc if of.card else ""
        crc = told or put.card.crc
        etag = answer.headers.get("ETag", "")
        return await self._writes.placed(put, etag, crc, "server-copy", guarded=guarded)

    async def _of_segments(self, put: Put, of: Stat, segments: list[Segment]) -> Placed | None:
        """None: it is made of more than plain segments, and goes through us."""
        if not segments or sum(s.size for s in segments) != put.size:
            return None
        card = of.card or put.card
        full = put._replace(
            card=card, metadata=of.metadata, content_type=of.content_type, headers=of.headers
        )
        upload = await self._begun(full)
        is_completing = False
        try:
            made = [
                await self._segment(put.key, upload, number, segment)
                for number, segment in enumerate(segments, 1)
            ]
            is_completing = True
            etag, guarded = await self._parts.made_of(full, upload, made)
        except BaseException as exc:
            may_be_made = isinstance(exc, Busy | asyncio.CancelledError)  # its answer is not known
            if not (is_completing and may_be_made):
                with contextlib.suppress(StoreError):  # what isn't gone stays journalled
                    await self._parts.abort(put.key, upload)
                    await self._is_over(put)
            raise
        crc = card.crc or put.card.crc
        placed = await self._writes.placed(full, etag, crc, "server-copy", guarded=guarded)
        if not placed.left:  # else it stays journalled, so that what is left is cleared later
            await self._is_over(put)
        return placed

    async def _begun(self, put: Put) -> str:
        """Journalled, so that what a killed run leaves is cleared."""
        if put.uploads is None:
            return await self._parts.begin(put)
        token = f"{put.card.decision_id}/copy"
        before = await put.uploads.begun(put.key, token, self._client.journal_date())
        if before:
            await self._parts.abort(put.key, before)
        upload = await self._parts.begin(put)
        await put.uploads.named(put.key, upload)
        return upload

    @staticmethod
    async def _is_over(put: Put) -> None:
        if put.uploads is not None:
            await put.uploads.over(put.key)

    async def _segment(self, key: bytes, upload: str, number: int, of: Segment) -> Segment:
        client = self._client
        bucket, name = client.split(key)
        container = f"{bucket}{SEGMENTS}"
        theirs, _, their_name = of.path.partition(b"/")
        there = segment_name(name, upload, number)
        headers = {"x-copy-from": encoded(theirs.decode(), their_name)}
        what = f"Copying part {number} of {client.named(key)}"
        send = partial(client.good, "PUT", container, there, headers=headers, ok=201, what=what)
        answer = await client.safely(send)
        etag = answer.headers.get("ETag", "")
        if etag.strip('"') != of.etag:
            message = f"{client.named(key)}: part {number} is not the same as its source."
            raise Corrupt(message)
        path = f"{container}/".encode() + there
        return Segment(path, of.etag, of.size)
