"""An upload in parts: begun or taken up again, sent several parts at once, and made one object; or
given up, so that no parts are left.

Its key and the server's date are journalled before it begins, and stay so until the store says that
it is gone.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Sequence
from functools import partial
from typing import NamedTuple, Protocol

from pinecart.core.errors import Busy, StoreError
from pinecart.core.ports import Placed, Put, Sender, Shares, Uploads
from pinecart.drivers.bucketed.client import BucketClient
from pinecart.drivers.http_message import Pieces
from pinecart.drivers.pieces import Give, each_piece


class PartSums(NamedTuple):
    """Of one part. md5: where it is asked for; else empty.   sha256: in hex, of what is sent in
    pieces.
    """

    crc: str
    md5: bytes = b""
    sha256: str = ""


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


class PartProtocol(Protocol):
    """How one kind of store takes an object in parts. Each call is one attempt but `there` and
    `abort`.
    """

    async def begin(self, put: Put) -> str:
        """The id of an upload."""
        ...

    async def there(self, key: bytes, upload: str) -> dict[tuple[int, int], str] | None:
        """(number, size) → ETag of the parts that lie there; None: it is gone, and another one is
        to be begun.
        """
        ...

    def is_same(self, etag: str, crc: str, md5: str) -> bool:
        """Whether a part with this ETag has just this content."""
        ...

    async def send(
        self, key: bytes, upload: str, number: int, body: bytes | Pieces, sums: PartSums
    ) -> str:
        """Its ETag."""
        ...

    async def complete(
        self, put: Put, upload: str, step: int, etags: Sequence[str], crc: str
    ) -> tuple[str, bool]:
        """The object's ETag where it is told, and whether its condition guarded the write."""
        ...

    async def placed(self, put: Put, etag: str, crc: str, *, guarded: bool) -> Placed:
        """Looked at once more. Raises Corrupt."""
        ...

    async def abort(self, key: bytes, upload: str) -> None:
        """Until the store says that it is gone. Raises StoreError."""
        ...


class MultipartUpload:
    """Of one object. Its steps: begin, send, complete; or give up."""

    def __init__(
        self,
        client: BucketClient,
        parts: PartProtocol,
        put: Put,
        step: int,
        source: PartSource,
        shares: Shares | None = None,
    ) -> None:
        self._client = client
        self._parts = parts
        self._put = put
        self._step = step
        self._source = source
        self._shares = shares
        self._upload = ""
        self._there: dict[tuple[int, int], str] = {}  # (number, size) → ETag of what is taken up
        self._etags: dict[int, str] = {}
        self._begun = 0  # so often it was asked to begin: one whose answer was lost may be left
        self._is_completing = False

    async def carry_out(self) -> Placed:
        """Raises StoreError; then it is given up, or journalled to go on with later."""
        await self._begin()
        try:
            crc = await self._send()
            await self._source.verify(crc)
            etag, guarded = await self._complete(crc)
        except BaseException as exc:
            await self._give_up(exc)
            raise
        placed = await self._parts.placed(self._put, etag, crc, guarded=guarded)
        if not placed.left:  # else it stays journalled, so that what is left is cleared later
            await self._is_over()
        return placed

    # --- begin

    async def _begin(self) -> None:
        """Goes on with the upload that a run before has left, where it is still there; else begins
        one and has it journalled by its name.
        """
        self._upload = await self._taken_up()
        if self._upload:
            return
        self._upload = await self._client.safely(self._start)
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
        there = await self._parts.there(put.key, upload)
        self._there = there or {}
        if there is not None:
            return upload
        return ""

    async def _journal_begin(self, journal: Uploads) -> str:
        """The id of an upload that was begun before with this token; empty: one begins now."""
        put = self._put
        decision = put.card.decision_id
        token = f"{decision}/{put.size}/{self._step}"
        return await journal.begun(put.key, token, self._client.journal_date())

    async def _start(self) -> str:
        """The name that the store gave the upload. It may be asked twice, where the answer to the
        first was lost.
        """
        self._begun += 1
        if self._begun == 2 and self._put.uploads:
            # The first answer was lost, and an upload may be left of it: the journal has to know,
            # also when this one is taken up by a later try.
            await self._journal_begin(self._put.uploads)
        return await self._parts.begin(self._put)

    # --- send

    async def _send(self) -> str:
        """The whole's CRC; empty where one of its parts isn't known."""
        return await each_piece(self._put.size, self._step, self._one, self._helper)

    async def _one(self, index: int, start: int, size: int) -> str:
        """The checksum of a part that is there in the end."""
        number = index + 1
        lies_there = self._there.get((number, size))
        if lies_there is not None:
            sums = await self._source.sums(start, size)  # not sent again: it must be just this
            if sums is not None and self._parts.is_same(lies_there, *sums):
                self._etags[number] = lies_there
                return sums[0]
        etag, crc = await self._source.send(self._upload, number, start, size)
        self._etags[number] = etag
        return crc

    def _helper(self) -> Give | None:
        """Who has room for some parts; None: nobody has. An upload that is taken up again is
        looked at here, part by part.
        """
        sender = self._shares.free(self._step) if self._shares and not self._there else None
        if sender:
            return partial(self._sent_by, sender)
        return None

    async def _sent_by(self, sender: Sender, indexes: list[int]) -> dict[int, str]:
        sent = await sender(self._upload, self._step, [index + 1 for index in indexes])
        self._etags.update({number: etag for number, (etag, _) in sent.items()})
        return {number - 1: crc for number, (_, crc) in sent.items()}

    # --- complete, or give up

    async def _complete(self, crc: str) -> tuple[str, bool]:
        etags = [self._etags[number] for number in sorted(self._etags)]
        self._is_completing = True
        return await self._parts.complete(self._put, self._upload, self._step, etags, crc)

    async def _give_up(self, cause: BaseException) -> None:
        """Take its parts away; unless it may go on, or may have become an object."""
        is_journalled = self._put.uploads is not None
        may_go_on = isinstance(cause, Busy) and (self._is_completing or is_journalled)
        if may_go_on or (is_journalled and isinstance(cause, asyncio.CancelledError)):
            return
        with contextlib.suppress(StoreError):  # what isn't gone stays journalled
            await self._parts.abort(self._put.key, self._upload)
            await self._is_over()

    async def _is_over(self) -> None:
        """No longer journalled; unless another one may be left, begun by a request whose answer was
        lost: the clock clears it.
        """
        if self._put.uploads and self._begun < 2:
            await self._put.uploads.over(self._put.key)
