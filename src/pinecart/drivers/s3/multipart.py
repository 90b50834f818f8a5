"""An upload in parts: begun or taken up again, sent several parts at once, and made one object; or
given up, so that no parts are left.

Its key and the server's date are journalled before it begins, and stay so until the store says that
it is gone.
"""

from __future__ import annotations

import asyncio
import contextlib
from functools import partial
from typing import Protocol

from pinecart.core.entries import Entry
from pinecart.core.errors import Busy, StoreError
from pinecart.core.ports import Placed, Put, Sender, Shares, Uploads
from pinecart.drivers.http_message import HttpAnswer
from pinecart.drivers.pieces import Give, each_piece
from pinecart.drivers.s3.client import Query, S3Client
from pinecart.drivers.s3.conditional import ConditionalWrites
from pinecart.drivers.s3.wire import completion, parse_parts, text_of

FULL_CRC = {"x-amz-checksum-algorithm": "CRC64NVME", "x-amz-checksum-type": "FULL_OBJECT"}


class PartSource(Protocol):
    """Where the parts of one object come from. Numbers are from 1."""

    async def send(self, upload: str, number: int, start: int, size: int) -> tuple[str, str]:
        """Send one part. Its ETag and CRC; the latter empty where it isn't known."""
        ...

    async def sums(self, start: int, size: int) -> tuple[str, str] | None:
        """CRC and MD5 (hex) of a range, to know a part that is there; None: it can't be told."""
        ...

    async def verify(self, crc: str) -> None:
        """Whether the source is what was sent, before an object is made of it. Raises Changed."""
        ...


class MultipartUpload:
    """Of one object. Its steps: begin, send, complete; or give up.

    sums: which checksum the bucket was seen to verify; empty: none.
    """

    def __init__(
        self,
        client: S3Client,
        writes: ConditionalWrites,
        put: Put,
        step: int,
        source: PartSource,
        *,
        sums: str,
        shares: Shares | None = None,
    ) -> None:
        self._client, self._writes = client, writes
        self._put, self._step = put, step
        self._source, self._shares = source, shares
        self._bucket, self._name = client.split(put.key)
        self._sums, self._sums_whole = sums, sums == "crc64nvme"
        self._upload = ""
        self._there: dict[tuple[int, int], str] = {}  # (number, size) → MD5 of what is taken up
        self._etags: dict[int, str] = {}
        self._begun = 0  # so often it was asked to begin: one whose answer was lost may be left
        self._is_completing = False

    async def carry_out(self) -> Placed:
        """Raises StoreError; then it is given up, or journalled to go on with later."""
        await self._begin()
        try:
            crc = await self._send()
            await self._source.verify(crc)
            answer, guarded = await self._complete(crc)
        except BaseException as exc:
            await self._give_up(exc)
            raise
        await self._is_over()
        return await self._placed(text_of(answer.body, "ETag"), guarded, crc)

    # --- begin

    async def _begin(self) -> None:
        self._upload = await self._taken_up()
        if self._upload:
            return
        started = await self._client.safely(self._start)
        self._upload = text_of(started.body, "UploadId")
        if self._put.uploads:
            await self._put.uploads.named(self._put.key, self._upload)

    async def _taken_up(self) -> str:
        """The id of an upload of this very source that was begun before; empty: there is none."""
        put = self._put
        if put.uploads is None:
            return ""
        upload = await self._journal_begin(put.uploads)
        if not upload:
            return ""
        there = await self._parts_of(upload)
        self._there = there or {}
        return upload if there is not None else ""

    async def _journal_begin(self, journal: Uploads) -> str:
        """The id of an upload that was begun before with this token; empty: one begins now."""
        put = self._put
        date = self._client.last_date or self._client.now()
        decision = put.card.decision_id
        token = f"{decision}/{put.size}/{self._step}"
        return await journal.begun(put.key, token, date.isoformat())

    async def _parts_of(self, upload: str) -> dict[tuple[int, int], str] | None:
        """Its parts; None: it is gone, and another one is started."""
        there: dict[tuple[int, int], str] = {}
        query: Query = [("uploadId", upload)]
        while True:
            ask = partial(self._client.ask, "GET", self._bucket, self._name, query=query)
            answer = await self._client.safely(ask)
            if answer.status != 200:
                return None
            parts, following = parse_parts(answer.body)
            there |= parts
            if not following:
                return there
            query = [("part-number-marker", following), ("uploadId", upload)]

    async def _start(self) -> HttpAnswer:
        self._begun += 1
        if self._begun == 2 and self._put.uploads:
            # The first answer was lost, and an upload may be left of it: the journal has to know,
            # also when this one is taken up by a later try.
            await self._journal_begin(self._put.uploads)
        headers = self._writes.kept_headers(self._put) | (FULL_CRC if self._sums_whole else {})
        return await self._client.good(
            "POST",
            self._bucket,
            self._name,
            query=[("uploads", "")],
            headers=headers,
            what=f"Starting parts of {self._client.named(self._put.key)}",
        )

    # --- send

    async def _send(self) -> str:
        """The whole's CRC; empty where one of its parts isn't known."""
        return await each_piece(self._put.size, self._step, self._one, self._helper)

    async def _one(self, index: int, start: int, size: int) -> str:
        number = index + 1
        lies_there = self._there.get((number, size))
        if lies_there is not None:
            sums = await self._source.sums(start, size)  # not sent again: it must be just this
            if sums is not None:
                crc, md5 = sums
                if md5 == lies_there:
                    self._etags[number] = f'"{lies_there}"'
                    return crc
        etag, crc = await self._source.send(self._upload, number, start, size)
        self._etags[number] = etag
        return crc

    def _helper(self) -> Give | None:
        """Who has room for some parts. What is taken up again is looked at here, part by part."""
        sender = self._shares.free(self._step) if self._shares and not self._there else None
        return partial(self._sent_by, sender) if sender else None

    async def _sent_by(self, sender: Sender, indexes: list[int]) -> dict[int, str]:
        sent = await sender(self._upload, self._step, [index + 1 for index in indexes])
        self._etags.update({number: etag for number, (etag, _) in sent.items()})
        return {number - 1: crc for number, (_, crc) in sent.items()}

    # --- complete, or give up

    async def _complete(self, crc: str) -> tuple[HttpAnswer, bool]:
        """The answer, and whether the write was guarded by its condition."""
        numbers = sorted(self._etags)
        body = completion([self._etags[number] for number in numbers])
        sums = {}
        if self._sums_whole and crc:
            sums = {"x-amz-checksum-crc64nvme": crc, "x-amz-checksum-type": "FULL_OBJECT"}
        self._is_completing = True
        ask = partial(self._ask_for, body, sums)
        return await self._writes.conditionally(self._put, ask)

    async def _ask_for(
        self, body: bytes, sums: dict[str, str], condition: dict[str, str]
    ) -> HttpAnswer:
        return await self._client.ask(
            "POST",
            self._bucket,
            self._name,
            query=[("uploadId", self._upload)],
            headers=sums | condition | {"content-length": str(len(body))},
            body=body,
            payload=self._client.signed_payload(body),
        )

    async def _give_up(self, cause: BaseException) -> None:
        """Take its parts away; unless it may go on, or may have become an object."""
        is_journalled = self._put.uploads is not None
        may_go_on = isinstance(cause, Busy) and (self._is_completing or is_journalled)
        if may_go_on or (is_journalled and isinstance(cause, asyncio.CancelledError)):
            return
        with contextlib.suppress(StoreError):  # what isn't gone stays journalled
            await self._writes.abort(self._bucket, self._name, self._upload)
            await self._is_over()

    async def _is_over(self) -> None:
        """No longer journalled; unless another one may be left, begun by a request whose answer was
        lost: the clock clears it.
        """
        if self._put.uploads and self._begun < 2:
            await self._put.uploads.over(self._put.key)

    async def _placed(self, etag: str, guarded: bool, crc: str) -> Placed:
        put, writes = self._put, self._writes
        known_etag = await writes.etag(put.key, etag)
        entry = Entry(put.key, put.size, None, known_etag)
        await writes.must_have_size(put)
        proof = "server-verified" if self._sums else "size-only"
        lost = await writes.lost(put)
        return Placed(entry, proof, guarded, crc, lost)
