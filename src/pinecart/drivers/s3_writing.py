"""How an object comes to be in an S3-compatible store: in one request, in parts, or copied there by
the store itself.
"""

from __future__ import annotations

import asyncio
import base64
import contextlib
import hashlib
from collections.abc import AsyncIterator, Awaitable, Callable
from datetime import datetime
from functools import partial
from urllib.parse import quote, urlencode

from pinecart.core.checksum import Crc64, crc_of
from pinecart.core.entries import Entry
from pinecart.core.errors import Busy, Changed, Corrupt, Missing, Refused, StoreError, Taken
from pinecart.core.places import show
from pinecart.core.ports import Placed, Put, Reading, Sender, Shares, Stat, Store, WriteStamp
from pinecart.drivers.pieces import Give, each_piece, in_pieces, piece_size
from pinecart.drivers.s3_asking import Asking, Query
from pinecart.drivers.s3_wire import (
    UNSIGNED,
    completion,
    encoded_path,
    error_from,
    parse_parts,
    parse_uploads,
    root_of,
    text_of,
)
from pinecart.drivers.transport import HttpAnswer, Pieces

COPY_BYTES = 5 << 30  # what a store copies in one request, at most (S3 API, CopyObject)
COPY_PART = 1 << 30
HELD_PART = 16 << 20  # a larger part is never held


class S3Writing(Asking):
    """What writes.

    Every write has its condition where the store knows one, and is looked at just before where it
    doesn't.
    """

    async def put(self, put: Put) -> Placed:
        """One request; above HELD_BYTES in parts."""
        if not isinstance(put.body, bytes):
            return await self._put_in_parts(put, put.body)
        bucket, name = self._split(put.key)
        body = put.body
        headers, proof = self._kept(put), "server-verified"
        headers["content-length"] = str(put.size)
        verifies = self.able(bucket).checksum
        if verifies == "crc64nvme":
            headers["x-amz-checksum-crc64nvme"] = put.card.crc
        elif verifies == "md5":
            headers["content-md5"] = md5_of(body)
        else:
            proof = "size-only"

        def send(condition: dict[str, str]) -> Awaitable[HttpAnswer]:
            return self._ask(
                "PUT",
                bucket,
                name,
                headers=headers | condition,
                body=body,
                payload=self._hash(body),
            )

        answer, guarded = await self._conditionally(put, send)
        etag = await self._etag(put.key, answer.headers.get("ETag", ""))
        if proof == "size-only":
            await self._must_have_size(put)
        return Placed(
            Entry(put.key, put.size, None, etag),
            proof,
            guarded,
            put.card.crc,
            await self._lost(put),
        )

    async def _lost(self, put: Put) -> str:
        """Which headers of the object its bucket did not keep: looked at once for each header, and
        remembered.
        """
        if not put.headers:
            return ""
        bucket, _ = self._split(put.key)
        kept, drops = self._keeps.setdefault(bucket, set()), self._drops.setdefault(bucket, set())
        if unknown := put.headers.keys() - kept - drops:
            there = (await self.stat(put.key)).headers
            for name in unknown:
                (kept if there.get(name) == put.headers[name] else drops).add(name)
        return ", ".join(sorted(put.headers.keys() & drops))

    async def _etag(self, key: bytes, told: str) -> str:
        """Without the quotes; where an answer tells none, it is looked up: else the next run would
        take it for another object.
        """
        return told.strip('"') or (await self.stat(key)).entry.etag

    def _kept(self, put: Put) -> dict[str, str]:
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

    async def _conditionally(
        self,
        put: Put,
        send: Callable[[dict[str, str]], Awaitable[HttpAnswer]],
        *,
        guards: bool = True,
    ) -> tuple[HttpAnswer, bool]:
        """Send a write with the condition it has; where the store knows none, look just before.

        Whether it was guarded.
        """
        bucket, _ = self._split(put.key)
        guarded = put.if_absent and self.able(bucket).create_only and guards
        if put.expected is not None:
            now = (await self.stat(put.key)).entry
            if now.etag != put.expected.etag:
                raise Taken(
                    f"{self._named(put.key)} is not as it was when this was planned. The "
                    "next run looks again."
                )
        elif put.if_absent and not guarded:
            await self._must_be_absent(put.key)
        answer = await send({"if-none-match": "*"} if guarded else {})
        if answer.status == 501 and guarded:
            self._learn(bucket, create_only=False)
            return await self._conditionally(put, send)
        if answer.status != 200 or _is_error(answer.body):
            raise error_from(
                answer.status, answer.headers, answer.body, what=f"Writing {self._named(put.key)}"
            )
        return answer, guarded

    async def _put_in_parts(self, put: Put, source: Reading) -> Placed:
        """Parts of the source, several at once; the source is verified before they become one
        object.
        """

        async def carry(upload: str, number: int, start: int, size: int) -> tuple[str, str]:
            if size > HELD_PART:
                return await self._put_part_in_pieces(put.key, upload, number, source, start, size)
            return await self.put_part(put.key, upload, number, await source.piece(start, size))

        return await self._in_parts(put, piece_size(put.size), carry, source.verify, put.shares)

    async def put_part(self, key: bytes, upload: str, number: int, body: bytes) -> tuple[str, str]:
        """One part of an upload that was begun, numbered from 1. Its ETag and CRC."""
        md5 = md5_of(body) if self.able(self._split(key)[0]).checksum == "md5" else ""
        return await self._part(key, upload, number, body, crc_of(body), md5, self._hash(body))

    async def _put_part_in_pieces(
        self, key: bytes, upload: str, number: int, source: Reading, start: int, size: int
    ) -> tuple[str, str]:
        """A part too large to be held is read twice: its sums go before it."""
        crc, md5, sha256 = await _sums(source, start, size)

        async def again() -> AsyncIterator[bytes]:
            """Its last piece only goes if all is as it was at the first reading."""
            now = Crc64()
            async for piece in in_pieces(source, start, size):
                now.add(piece)
                if now.size == size and now.text != crc:
                    raise Changed(f"{show(source.entry.key)} changed while it was read.")
                yield piece

        body = Pieces(size, again)
        payload = sha256.hex() if self._signs_payload else UNSIGNED
        return await self._part(
            key, upload, number, body, crc, base64.b64encode(md5).decode(), payload
        )

    async def _part(
        self,
        key: bytes,
        upload: str,
        number: int,
        body: bytes | Pieces,
        crc: str,
        md5: str,
        payload: str,
    ) -> tuple[str, str]:
        bucket, name = self._split(key)
        headers = {"content-length": str(len(body))}
        if self.able(bucket).checksum == "crc64nvme":
            headers["x-amz-checksum-crc64nvme"] = crc
        elif self.able(bucket).checksum == "md5":
            headers["content-md5"] = md5
        query: Query = [("partNumber", str(number)), ("uploadId", upload)]
        answer = await self._safely(
            lambda: self._good(
                "PUT",
                bucket,
                name,
                query=query,
                headers=headers,
                body=body,
                payload=payload,
                what=f"Writing part {number} of {self._named(key)}",
            ),
            corrupted_too=True,
        )
        return answer.headers.get("ETag", ""), crc

    async def _in_parts(
        self,
        put: Put,
        step: int,
        carry: Callable[[str, int, int, int], Awaitable[tuple[str, str]]],
        verify: Callable[[str], Awaitable[None]],
        shares: Shares | None = None,
    ) -> Placed:
        """carry(upload, part number, start, size) → (ETag, CRC).

        What fails is aborted, so that no parts are left.
        """
        bucket, name = self._split(put.key)
        upload, there = await self._taken_up(put, step)
        whole = {"x-amz-checksum-algorithm": "CRC64NVME", "x-amz-checksum-type": "FULL_OBJECT"}
        knows = self.able(bucket).checksum == "crc64nvme"
        starts = 0

        async def start() -> HttpAnswer:
            nonlocal starts
            starts += 1
            return await self._good(
                "POST",
                bucket,
                name,
                query=[("uploads", "")],
                headers=self._kept(put) | (whole if knows else {}),
                what=f"Starting parts of {self._named(put.key)}",
            )

        if not upload:
            started = await self._safely(start)
            upload = text_of(started.body, "UploadId")
            if put.uploads:
                await put.uploads.named(put.key, upload)
        etags: dict[int, str] = {}
        completing = False

        async def one(number: int, start: int, size: int) -> str:
            if (number + 1, size) in there and not isinstance(put.body, bytes):
                crc, md5, _ = await _sums(
                    put.body, start, size
                )  # not sent again: the part must be just this
                if md5.hex() == there[number + 1, size]:
                    etags[number + 1] = f'"{there[number + 1, size]}"'
                    return crc
            etags[number + 1], crc = await carry(upload, number + 1, start, size)
            return crc

        def free() -> Give | None:
            """What is taken up again is looked at here, part by part."""
            sender = shares.free(step) if shares and not there else None
            return partial(give, sender) if sender else None

        async def give(sender: Sender, numbers: list[int]) -> dict[int, str]:
            sent = await sender(upload, step, [n + 1 for n in numbers])
            etags.update({number: etag for number, (etag, _) in sent.items()})
            return {number - 1: crc for number, (_, crc) in sent.items()}

        try:
            crc = await each_piece(put.size, step, one, free)
            await verify(crc)
            body = completion([etags[n] for n in sorted(etags)])
            sums = (
                {"x-amz-checksum-crc64nvme": crc, "x-amz-checksum-type": "FULL_OBJECT"}
                if knows and crc
                else {}
            )

            async def complete(condition: dict[str, str]) -> HttpAnswer:
                headers = sums | condition | {"content-length": str(len(body))}
                query: Query = [("uploadId", upload)]
                return await self._ask(
                    "POST",
                    bucket,
                    name,
                    query=query,
                    headers=headers,
                    body=body,
                    payload=self._hash(body),
                )

            completing = True
            answer, guarded = await self._conditionally(put, complete)
        except BaseException as exc:
            # After a lost answer it may have become an object, which is looked at first; what is
            # journalled goes on later.
            busy = isinstance(exc, Busy) and (completing or put.uploads is not None)
            if not busy and not (put.uploads and isinstance(exc, asyncio.CancelledError)):
                gone = await self._aborted(bucket, name, upload)
                if put.uploads and gone and starts < 2:
                    await put.uploads.over(put.key)
            raise
        if put.uploads and starts < 2:
            # after a lost answer another one may be left: it stays journalled, to be cleared
            await put.uploads.over(put.key)
        entry = Entry(
            put.key, put.size, None, await self._etag(put.key, text_of(answer.body, "ETag"))
        )
        await self._must_have_size(put)
        proof = "server-verified" if self.able(bucket).checksum else "size-only"
        return Placed(entry, proof, guarded, crc, await self._lost(put))

    async def _taken_up(self, put: Put, step: int) -> tuple[str, dict[tuple[int, int], str]]:
        """An upload of this very source that was begun before, and its parts: (number,
        size) → MD5.
        """
        if put.uploads is None:
            return "", {}
        date = self._transport.last_date or self._now()
        upload = await put.uploads.begun(
            put.key, f"{put.card.decision_id}/{put.size}/{step}", date.isoformat()
        )
        if not upload:
            return "", {}
        bucket, name = self._split(put.key)
        there: dict[tuple[int, int], str] = {}
        query: Query = [("uploadId", upload)]
        while True:
            answer = await self._safely(partial(self._ask, "GET", bucket, name, query=query))
            if answer.status != 200:
                return "", {}  # it is gone: another one is started
            parts, following = parse_parts(answer.body)
            there |= parts
            if not following:
                return upload, there
            query = [("part-number-marker", following), ("uploadId", upload)]

    async def _clear_uploads(self, key: bytes, since: str) -> int:
        """Raises StoreError where it can't be told that none is left."""
        bucket, name = self._split(key)
        what = f"Looking for unfinished uploads of {self._named(key)}"
        answer = await self._safely(
            lambda: self._good(
                "GET",
                bucket,
                query=[("uploads", ""), ("prefix", name), ("encoding-type", "url")],
                what=what,
            )
        )
        ours = [
            u
            for u, k, at in parse_uploads(answer.body)
            if k == name and at >= datetime.fromisoformat(since)
        ]
        for upload in ours:
            await self._abort(bucket, name, upload)
        return len(ours)

    async def _abort(self, bucket: str, name: bytes, upload: str) -> None:
        """Until the store says that it is gone. Raises StoreError."""

        async def one() -> None:
            answer = await self._ask("DELETE", bucket, name, query=[("uploadId", upload)])
            if answer.status not in (200, 204, 404):
                what = f"Taking away unfinished parts of {self.name}/{bucket}/{show(name)}"
                raise error_from(answer.status, answer.headers, answer.body, what=what)

        await self._safely(one)

    async def _aborted(self, bucket: str, name: bytes, upload: str) -> bool:
        """Whether it is gone now; what isn't stays journalled."""
        with contextlib.suppress(StoreError):
            await self._abort(bucket, name, upload)
            return True
        return False

    def copies_from(self, source: Store) -> bool:
        """One endpoint, and one key for both sides."""
        return isinstance(source, S3Writing) and source._system == self._system

    async def copy(
        self, put: Put, source: Store, source_key: bytes, entry: Entry, version: str = ""
    ) -> Placed | None:
        """The store copies by itself; in parts what is above 5 GiB or was made of parts."""
        if not isinstance(source, S3Writing) or not self.copies_from(source):
            return None
        from_bucket, from_name = source._split(source_key)
        where = {
            "x-amz-copy-source": encoded_path(from_bucket, from_name)
            + (f"?versionId={version}" if version else ""),
            "x-amz-copy-source-if-match": f'"{entry.etag}"',
        }
        try:
            # An object of parts is copied in parts: some stores list another ETag for its whole
            # copy than they answer.
            if put.size > COPY_BYTES or "-" in entry.etag:
                placed = await self._copy_in_parts(
                    put, where, await source.stat(source_key, version)
                )
            else:
                placed = await self._copy_whole(put, where)
        except Taken as exc:
            if (await source.stat(source_key, version)).entry.etag != entry.etag:
                raise Changed(f"{source._named(source_key)} changed before it was copied.") from exc
            if put.if_absent and await self._is_absent(put.key):
                self._guards_copies = (
                    False  # some stores hold the condition against the source of a copy
                )
                return await self.copy(put, source, source_key, entry, version)
            raise
        except (
            Refused
        ):  # this key may not, or this store does not know how: the bytes go through us
            return None
        if placed.entry.etag != entry.etag:  # else the store itself tells that it is the same
            placed = await self._compared(placed, put, await source.stat(source_key, version))
        if put.extra.tags and await self.tags(put.key) != dict(put.extra.tags):
            return placed._replace(lost="tags")
        return placed

    async def _compared(self, placed: Placed, put: Put, of: Stat) -> Placed:
        """A copy whose ETag says nothing of its source: by checksums, where both have one. Raises
        Corrupt.
        """
        there = await self.stat(put.key)
        known = of.crc or (of.card.crc if of.card else "")
        if there.entry.size != put.size or (there.crc and known and there.crc != known):
            raise Corrupt(
                f"{self._named(put.key)}: the store's own copy is not the same as its source."
            )
        proof = "server-copy" if there.crc and known else "size-only"
        return placed._replace(proof=proof, crc=there.crc or known)

    async def _copy_whole(self, put: Put, where: dict[str, str]) -> Placed:
        """What is kept with the source goes along as it is, its tags too: nothing has to be asked
        for before.
        """
        bucket, name = self._split(put.key)
        headers = where | {"content-length": "0"}
        if put.extra.storage_class:
            headers["x-amz-storage-class"] = put.extra.storage_class
        answer, guarded = await self._conditionally(
            put,
            lambda condition: self._ask("PUT", bucket, name, headers=headers | condition),
            guards=self._guards_copies,
        )
        entry = Entry(
            put.key, put.size, None, await self._etag(put.key, text_of(answer.body, "ETag"))
        )
        return Placed(
            entry, "server-copy", guarded, text_of(answer.body, "ChecksumCRC64NVME") or put.card.crc
        )

    async def _copy_in_parts(self, put: Put, where: dict[str, str], of: Stat) -> Placed:
        bucket, name = self._split(put.key)
        card = put.card
        if of.card:
            card = WriteStamp(card.decision_id, of.card.modified_ns, of.crc or of.card.crc)
        put = put._replace(
            card=card,
            metadata={**of.metadata, **put.metadata},
            content_type=of.content_type,
            headers=of.headers,
        )

        async def carry(upload: str, number: int, start: int, size: int) -> tuple[str, str]:
            headers = where | {
                "x-amz-copy-source-range": f"bytes={start}-{start + size - 1}",
                "content-length": "0",
            }
            query: Query = [("partNumber", str(number)), ("uploadId", upload)]
            what = f"Copying part {number} of {self._named(put.key)}"
            answer = await self._safely(
                lambda: self._good("PUT", bucket, name, query=query, headers=headers, what=what)
            )
            if _is_error(answer.body):
                raise error_from(answer.status, answer.headers, answer.body, what=what)
            return text_of(answer.body, "ETag"), ""

        async def nothing(crc: str) -> None:
            """Every part was copied under If-Match of one ETag."""

        placed = await self._in_parts(put, max(piece_size(put.size), COPY_PART), carry, nothing)
        return placed._replace(proof="server-copy")

    async def _must_have_size(self, put: Put) -> None:
        found = (await self.stat(put.key)).entry
        if found.size != put.size:
            raise Corrupt(
                f"{self._named(put.key)}: {put.size} bytes were sent, {found.size} are there."
            )

    async def _is_absent(self, key: bytes) -> bool:
        try:
            await self.stat(key)
        except Missing:
            return True
        return False

    async def _must_be_absent(self, key: bytes) -> None:
        if await self._is_absent(key):
            return
        raise Taken(f"{self._named(key)} appeared there meanwhile. The next run looks again.")


def _is_error(body: bytes) -> bool:
    """An error inside a 200 answer is told by its root element, never by a word somewhere in it."""
    return body.lstrip()[:200].startswith((b"<?xml", b"<Error")) and root_of(body) == "Error"


async def _sums(source: Reading, start: int, size: int) -> tuple[str, bytes, bytes]:
    """CRC, MD5 and SHA-256 of a range."""
    crc, md5, sha256 = Crc64(), hashlib.md5(usedforsecurity=False), hashlib.sha256()
    async for piece in in_pieces(source, start, size):
        crc.add(piece)
        md5.update(piece)
        sha256.update(piece)
    return crc.text, md5.digest(), sha256.digest()


def md5_of(body: bytes) -> str:
    return base64.b64encode(hashlib.md5(body, usedforsecurity=False).digest()).decode()
