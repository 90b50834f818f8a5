"""S3-compatible object stores, whatever the maker: signs, lists, reads and writes by itself, one request an object."""

from __future__ import annotations

import asyncio
import base64
import contextlib
import hashlib
import random
import secrets
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping, Sequence
from contextlib import asynccontextmanager
from datetime import UTC, datetime
from typing import Any, TypeVar
from urllib.parse import quote, urlencode

from pinecart.core.checksum import crc_of
from pinecart.core.entries import Entry
from pinecart.core.errors import Busy, Changed, Corrupt, Incomplete, Missing, Refused, StoreError, Taken, Unsafe
from pinecart.core.keeping import Extra, Keep
from pinecart.core.places import show
from pinecart.core.ports import Abilities, Card, Level, Placed, Put, Reading, Stat, Store, Version
from pinecart.core.retry import Retry
from pinecart.drivers.pieces import each_piece, piece_size
from pinecart.drivers.s3_wire import (
    EMPTY_SHA256,
    UNSIGNED,
    Keys,
    completion,
    encoded_path,
    encoded_query,
    error_from,
    parse_buckets,
    parse_page,
    parse_parts,
    parse_tags,
    parse_uploads,
    parse_versions,
    region_told,
    root_of,
    signed,
    text_of,
)
from pinecart.drivers.transport import Allowed, Answer, Transport

T = TypeVar("T")
Query = list[tuple[str, str | bytes]]
PROBE = b".pinecart-probe-"
COPY_BYTES = 5 << 30  # what a store copies in one request, at most (S3 API, CopyObject)
COPY_PART = 1 << 30


class S3Store:
    """One endpoint with one key. root: what it is confined to, as `bucket/prefix/`; empty: all buckets."""

    def __init__(
        self, name: str, transport: Transport, keys: Keys, *, region: str = "", root: str = "",
        retry: Retry = Retry(), now: Callable[[], datetime] = lambda: datetime.now(UTC),
    ) -> None:  # fmt: skip
        self.name = name
        self._transport = transport
        self._keys = keys
        self._region, self._region_given = region or "us-east-1", bool(region)
        self._in_host = False
        self._root = root.encode().strip(b"/") + b"/" if root.strip("/") else b""
        self._retry = retry
        self._now = now
        self._abilities = Abilities(create_only=True, lists_ranges=True, keeps_metadata=True)
        self._guards_copies = True
        self._removals_guarded: bool | None = None
        self._versioned: dict[str, bool] = {}
        self._system = (transport.origin, keys)
        self._signs_payload = not transport.is_tls

    @classmethod
    def from_spec(cls, spec: Mapping[str, Any]) -> S3Store:
        given: dict[str, Any] = {k: float(spec[k]) for k in ("connect_s", "silence_s") if spec.get(k)}
        texts: dict[str, Any] = {k: spec.get(k) or "" for k in ("certificate", "proxy")}
        transport = Transport(spec["endpoint"], allowed=Allowed(tuple(spec.get("allowed", ()))), **given, **texts)
        keys = keys_of(spec)
        store = cls(spec["name"], transport, keys, region=spec.get("region") or "", root=spec.get("root") or "",
                    retry=Retry(**spec.get("retry", {})))  # fmt: skip
        store._in_host = spec.get("addressing") == "host"
        store._signs_payload = not transport.is_tls and spec.get("sign_payload") != "no"
        store.most_at_once = int(spec.get("most_at_once") or 0)
        known = spec.get("abilities") or {}
        store._abilities = store._abilities._replace(**{k: known[k] for k in ("create_only",) if k in known})
        return store

    def renew(self, spec: Mapping[str, Any]) -> None:
        """Take up a new key, from the next request on."""
        self._keys = keys_of(spec)
        self._system = (self._system[0], self._keys)

    @property
    def most_at_once(self) -> int:
        return self._transport.most_at_once

    @most_at_once.setter
    def most_at_once(self, most: int) -> None:
        self._transport.most_at_once = most

    async def abilities(self, prefix: bytes) -> Abilities:
        return self._abilities

    def identity(self, prefix: bytes) -> str:
        return f"s3:{self._transport.origin}/{show(self._root + prefix)}"

    # --- looking -------------------------------------------------------------------------------------------------

    async def check_place(self, prefix: bytes) -> None:
        bucket, _ = self._split(prefix)
        if not bucket:
            raise Refused(
                f"pine://{self.name}/: name a bucket: the first part of the path.", code="store.no-bucket-named"
            )
        await self._page(bucket, b"", [("max-keys", "1")])

    async def list(self, prefix: bytes, *, after: bytes = b"", folders: str = "") -> AsyncIterator[list[Entry]]:
        bucket, start = self._split(prefix)
        query = _after(start + after) if after else []
        seen: set[str] = set()
        while True:
            page = await self._page(bucket, start, query)
            entries = [e for e in page.entries if e.key]
            if entries:
                yield entries
            if page.marker:
                query = _after(page.marker)
                continue
            if not page.token:
                return
            if page.token in seen:
                raise Incomplete(
                    f"The listing of {self.name}/{bucket} goes round in circles. Ask the store's operator."
                )
            seen.add(page.token)
            query = [("continuation-token", page.token)]

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Level:
        bucket, start = self._split(prefix)
        if not bucket:
            answer = await self._safely(lambda: self._good("GET", "", what=f"Listing the buckets of {self.name}"))
            names = [n.encode() + b"/" for n in parse_buckets(answer.body) if n.encode() + b"/" > after]
            return Level(names[:limit], [], names[limit - 1] if len(names) > limit else b"")
        query: Query = [("delimiter", "/"), ("max-keys", str(limit))]
        # Going on after a folder `x/`: the first name past everything in it is `x0`, since 0 follows / in bytes.
        if after:
            query += _after(start + (after[:-1] + b"/\xf4\x8f\xbf\xbf" if after.endswith(b"/") else after))
        page = await self._page(bucket, start, query)
        last = max([e.key for e in page.entries] + page.folders, default=b"")
        return Level(page.folders, [e for e in page.entries if e.key], last if page.token or page.marker else b"")

    async def _page(self, bucket: str, prefix: bytes, query: Query) -> Any:
        full: Query = [("list-type", "2"), ("encoding-type", "url"), *query]
        if prefix:
            full.append(("prefix", prefix))
        what = f"Listing {self.name}/{bucket}"

        async def one() -> Any:
            answer = await self._good("GET", bucket, query=full, what=what)
            return parse_page(answer.body, prefix=prefix)

        return await self._safely(one)

    async def stat(self, key: bytes, version: str = "") -> Stat:
        bucket, name = self._split(key)
        what = f"Looking at {self._named(key)}"
        ask = {"x-amz-checksum-mode": "ENABLED"}
        query = _of(version)
        answer = await self._safely(lambda: self._good("HEAD", bucket, name, query=query, headers=ask, what=what))
        return _stat(key, answer)

    async def keeps_versions(self, key: bytes) -> bool:
        bucket, _ = self._split(key)
        if bucket not in self._versioned:
            answer = await self._safely(lambda: self._ask("GET", bucket, query=[("versioning", "")]))
            if answer.status >= 500 and answer.status != 501:
                raise error_from(answer.status, answer.headers, answer.body, what=f"Looking at {self.name}/{bucket}")
            self._versioned[bucket] = answer.status == 200 and text_of(answer.body, "Status") == "Enabled"
        return self._versioned[bucket]

    async def versions(self, key: bytes) -> Sequence[Version]:
        bucket, name = self._split(key)
        query: Query = [("versions", ""), ("prefix", name), ("encoding-type", "url")]
        answer = await self._safely(lambda: self._ask("GET", bucket, query=query))
        if answer.status in (400, 405, 501):
            return []
        if answer.status != 200:
            what = f"Listing the versions of {self._named(key)}"
            raise error_from(answer.status, answer.headers, answer.body, what=what)
        found = parse_versions(answer.body, name)
        return [] if [v.version for v in found] == ["null"] else found  # a bucket that never kept any

    async def tags(self, key: bytes) -> dict[str, str]:
        """Raises Refused (code "store.no-tags") where the store knows none."""
        bucket, name = self._split(key)
        answer = await self._safely(lambda: self._ask("GET", bucket, name, query=[("tagging", "")]))
        if answer.status in (405, 501):
            raise Refused(f"Store {self.name} knows no tags. Leave tags out of what is kept.", code="store.no-tags")
        if answer.status != 200:
            raise error_from(answer.status, answer.headers, answer.body, what=f"Reading the tags of {self._named(key)}")
        return parse_tags(answer.body)

    # --- reading -------------------------------------------------------------------------------------------------

    def open(
        self, key: bytes, expected: Entry | None = None, *, version: str = ""
    ) -> contextlib.AbstractAsyncContextManager[_Object]:
        if expected is None:
            return self._looked_up(key, version)
        return contextlib.nullcontext(_Object(self, key, expected, version))

    @asynccontextmanager
    async def _looked_up(self, key: bytes, version: str) -> AsyncIterator[_Object]:
        yield _Object(self, key, (await self.stat(key, version)).entry, version)

    @asynccontextmanager
    async def _get(
        self, key: bytes, etag: str, start: int, version: str = ""
    ) -> AsyncIterator[tuple[Mapping[str, str], AsyncIterator[bytes]]]:
        wanted, target, headers = self._getting(key, etag, start, None, version)
        async with self._transport.streamed("GET", target, headers) as (status, found, chunks):
            if status == 412:
                raise self._changed(key)
            if status != wanted:
                body = b"".join([c async for c in chunks])
                raise error_from(status, found, body, what=f"Reading {self._named(key)}")
            yield found, chunks

    async def _get_at_once(
        self, key: bytes, entry: Entry, start: int = 0, last: int | None = None, version: str = "",
        into: bytearray | None = None,
    ) -> Answer:  # fmt: skip
        """What is taken whole: a small object, or a piece of a large one."""
        wanted, target, headers = self._getting(key, entry.etag, start, last, version)
        most = max(entry.size if last is None else last - start + 1, 1 << 20)
        answer = await self._transport.ask("GET", target, headers, most=most, into=into)
        if answer.status == 412:
            raise self._changed(key)
        if answer.status != wanted:
            raise error_from(answer.status, answer.headers, bytes(answer.body), what=f"Reading {self._named(key)}")
        return answer

    def _getting(
        self, key: bytes, etag: str, start: int, last: int | None, version: str
    ) -> tuple[int, str, dict[str, str]]:
        """The status that a right answer has, what to ask for, and the headers."""
        bucket, name = self._split(key)
        ranged = start > 0 or last is not None
        headers = {"if-match": f'"{etag}"', "x-amz-checksum-mode": "ENABLED"}
        if ranged:
            headers["range"] = f"bytes={start}-{'' if last is None else last}"
        path, query, full = self._prepare("GET", bucket, name, _of(version), headers, EMPTY_SHA256)
        return 206 if ranged else 200, path + query, full

    # --- writing -------------------------------------------------------------------------------------------------

    async def put(self, put: Put) -> Placed:
        """One request; above HELD_BYTES in parts."""
        if not isinstance(put.body, bytes):
            return await self._put_in_parts(put, put.body)
        bucket, name = self._split(put.key)
        body = put.body
        headers = self._kept(put) | {"content-length": str(put.size)}
        if self._abilities.checksum == "crc64nvme":
            headers |= {"x-amz-checksum-crc64nvme": put.card.crc}
        elif self._abilities.checksum == "md5":
            headers |= {"content-md5": _md5(body)}

        async def send(condition: dict[str, str]) -> Answer:
            return await self._ask(
                "PUT", bucket, name, headers=headers | condition, body=body, payload=self._hash(body)
            )

        answer, guarded = await self._conditionally(put, send)
        entry = Entry(put.key, put.size, None, await self._etag(put.key, answer.headers.get("ETag", "")))
        if {"x-amz-checksum-crc64nvme", "content-md5"} & headers.keys():
            return Placed(entry, "server-verified", guarded, put.card.crc)
        await self._must_have_size(put)
        return Placed(entry, "size-only", guarded, put.card.crc)

    async def _etag(self, key: bytes, told: str) -> str:
        """Without the quotes; where an answer tells none, it is looked up: else the next run would take it for another object."""
        return told.strip('"') or (await self.stat(key)).entry.etag

    def _kept(self, put: Put) -> dict[str, str]:
        """What is kept with an object: its own metadata, our card, its content type."""
        kept = {f"x-amz-meta-{k}": v for k, v in put.metadata.items()} | {"x-amz-meta-pinecart": put.card.text()}
        if put.extra.tags:
            kept["x-amz-tagging"] = urlencode(sorted(put.extra.tags.items()), quote_via=quote)
        if put.extra.storage_class:
            kept["x-amz-storage-class"] = put.extra.storage_class
        return kept | ({"content-type": put.content_type} if put.content_type else {})

    def _hash(self, body: bytes) -> str:
        return hashlib.sha256(body).hexdigest() if self._signs_payload else UNSIGNED

    async def _conditionally(
        self, put: Put, send: Callable[[dict[str, str]], Awaitable[Answer]], *, guards: bool = True
    ) -> tuple[Answer, bool]:
        """Send a write with the condition it has; where the store knows none, look just before. Whether it was guarded."""
        guarded = put.if_absent and self._abilities.create_only and guards
        if put.expected is not None:
            now = (await self.stat(put.key)).entry
            if now.etag != put.expected.etag:
                raise Taken(f"{self._named(put.key)} is not as it was when this was planned. The next run looks again.")
        elif put.if_absent and not guarded:
            await self._must_be_absent(put.key)
        answer = await send({"if-none-match": "*"} if guarded else {})
        if answer.status == 501 and guarded:
            self._abilities = self._abilities._replace(create_only=False)
            return await self._conditionally(put, send)
        if answer.status != 200 or _is_error(answer.body):
            raise error_from(answer.status, answer.headers, answer.body, what=f"Writing {self._named(put.key)}")
        return answer, guarded

    async def _put_in_parts(self, put: Put, source: Reading) -> Placed:
        """Parts of the source, several at once; the source is verified before they become one object."""
        bucket, name = self._split(put.key)

        async def carry(upload: str, number: int, start: int, size: int) -> tuple[str, str]:
            chunk = await source.piece(start, size)
            headers = {"content-length": str(size)}
            crc = crc_of(chunk)
            if self._abilities.checksum == "crc64nvme":
                headers["x-amz-checksum-crc64nvme"] = crc
            elif self._abilities.checksum == "md5":
                headers["content-md5"] = _md5(chunk)
            query: Query = [("partNumber", str(number)), ("uploadId", upload)]
            answer = await self._safely(
                lambda: self._good(
                    "PUT", bucket, name, query=query, headers=headers, body=chunk, payload=self._hash(chunk),
                    what=f"Writing part {number} of {self._named(put.key)}",
                )
            )  # fmt: skip
            return answer.headers.get("ETag", ""), crc

        return await self._in_parts(put, piece_size(put.size), carry, source.verify)

    async def _in_parts(
        self, put: Put, step: int, carry: Callable[[str, int, int, int], Awaitable[tuple[str, str]]],
        verify: Callable[[], Awaitable[None]],
    ) -> Placed:  # fmt: skip
        """carry(upload, part number, start, size) → (ETag, CRC). What fails is aborted, so that no parts are left."""
        bucket, name = self._split(put.key)
        upload, there = await self._taken_up(put, step)
        whole = {"x-amz-checksum-algorithm": "CRC64NVME", "x-amz-checksum-type": "FULL_OBJECT"}
        knows = self._abilities.checksum == "crc64nvme"
        starts = 0

        async def start() -> Answer:
            nonlocal starts
            starts += 1
            return await self._good(
                "POST", bucket, name, query=[("uploads", "")], headers=self._kept(put) | (whole if knows else {}),
                what=f"Starting parts of {self._named(put.key)}",
            )  # fmt: skip

        if not upload:
            started = await self._safely(start)
            upload = text_of(started.body, "UploadId")
            if put.uploads:
                await put.uploads.named(put.key, upload)
        etags: dict[int, str] = {}
        completing = False

        async def one(number: int, start: int, size: int) -> str:
            if (number + 1, size) in there and not isinstance(put.body, bytes):
                piece = await put.body.piece(start, size)  # read again, not sent again: the part must be just this
                if hashlib.md5(piece, usedforsecurity=False).hexdigest() == there[number + 1, size]:
                    etags[number + 1] = f'"{there[number + 1, size]}"'
                    return crc_of(piece)
            etags[number + 1], crc = await carry(upload, number + 1, start, size)
            return crc

        try:
            crc = await each_piece(put.size, step, one)
            await verify()
            body = completion([etags[n] for n in sorted(etags)])
            sums = {"x-amz-checksum-crc64nvme": crc, "x-amz-checksum-type": "FULL_OBJECT"} if knows and crc else {}

            async def complete(condition: dict[str, str]) -> Answer:
                headers = sums | condition | {"content-length": str(len(body))}
                query: Query = [("uploadId", upload)]
                return await self._ask(
                    "POST", bucket, name, query=query, headers=headers, body=body, payload=self._hash(body)
                )

            completing = True
            answer, guarded = await self._conditionally(put, complete)
        except BaseException as exc:
            # After a lost answer it may have become an object, which is looked at first; what is journalled goes on later.
            busy = isinstance(exc, Busy) and (completing or put.uploads is not None)
            if not busy and not (put.uploads and isinstance(exc, asyncio.CancelledError)):
                await self._abort(bucket, name, upload)
                if put.uploads:
                    await put.uploads.over(put.key)
            raise
        if (
            put.uploads and starts < 2
        ):  # after a lost answer another one may be left: it stays journalled, to be cleared
            await put.uploads.over(put.key)
        entry = Entry(put.key, put.size, None, await self._etag(put.key, text_of(answer.body, "ETag")))
        await self._must_have_size(put)
        return Placed(entry, "server-verified" if self._abilities.checksum else "size-only", guarded, crc)

    async def _taken_up(self, put: Put, step: int) -> tuple[str, dict[tuple[int, int], str]]:
        """An upload of this very source that was begun before, and its parts: (number, size) → MD5."""
        if put.uploads is None:
            return "", {}
        date = self._transport.last_date or self._now()
        upload = await put.uploads.begun(put.key, f"{put.card.decision_id}/{put.size}/{step}", date.isoformat())
        if not upload:
            return "", {}
        bucket, name = self._split(put.key)
        there: dict[tuple[int, int], str] = {}
        query: Query = [("uploadId", upload)]
        while True:
            answer = await self._safely(lambda query=query: self._ask("GET", bucket, name, query=query))  # type: ignore[misc]
            if answer.status != 200:
                return "", {}  # it is gone: another one is started
            parts, following = parse_parts(answer.body)
            there |= parts
            if not following:
                return upload, there
            query = [("part-number-marker", following), ("uploadId", upload)]

    async def clear_uploads(self, key: bytes, since: str) -> int:
        bucket, name = self._split(key)
        what = f"Looking for unfinished uploads of {self._named(key)}"
        answer = await self._safely(
            lambda: self._good("GET", bucket, query=[("uploads", ""), ("prefix", name)], what=what)
        )
        ours = [u for u, k, at in parse_uploads(answer.body) if k == name and at >= datetime.fromisoformat(since)]
        for upload in ours:
            await self._abort(bucket, name, upload)
        return len(ours)

    async def _abort(self, bucket: str, name: bytes, upload: str) -> None:
        with contextlib.suppress(StoreError):
            await self._ask("DELETE", bucket, name, query=[("uploadId", upload)])

    def copies_from(self, source: Store) -> bool:
        """One endpoint, and one key for both sides."""
        return isinstance(source, S3Store) and source._system == self._system

    async def copy(self, put: Put, source: Store, source_key: bytes, entry: Entry, version: str = "") -> Placed | None:
        """The store copies by itself; in parts what is above 5 GiB or was made of parts."""
        if not isinstance(source, S3Store) or not self.copies_from(source):
            return None
        from_bucket, from_name = source._split(source_key)
        where = {
            "x-amz-copy-source": encoded_path(from_bucket, from_name) + (f"?versionId={version}" if version else ""),
            "x-amz-copy-source-if-match": f'"{entry.etag}"',
        }
        try:
            # An object of parts is copied in parts: some stores list another ETag for its whole copy than they answer.
            if put.size > COPY_BYTES or "-" in entry.etag:
                placed = await self._copy_in_parts(put, where)
            else:
                placed = await self._copy_whole(put, where)
        except Taken as exc:
            if (await source.stat(source_key, version)).entry.etag != entry.etag:
                raise Changed(f"{source._named(source_key)} changed before it was copied.") from exc
            if put.if_absent and await self._is_absent(put.key):
                self._guards_copies = False  # some stores hold the condition against the source of a copy
                return await self.copy(put, source, source_key, entry, version)
            raise
        except Refused:  # this key may not, or this store does not know how: the bytes go through us
            return None
        stat = await self.stat(put.key)
        if stat.entry.size != put.size or (stat.crc and put.card.crc and stat.crc != put.card.crc):
            raise Corrupt(f"{self._named(put.key)}: the store's own copy is not the same as its source.")
        return placed._replace(crc=stat.crc or put.card.crc)

    async def _copy_whole(self, put: Put, where: dict[str, str]) -> Placed:
        bucket, name = self._split(put.key)
        headers = self._kept(put) | where | {"x-amz-metadata-directive": "REPLACE", "content-length": "0"}
        headers |= {"x-amz-tagging-directive": "REPLACE"} if put.extra.tags else {}
        answer, guarded = await self._conditionally(
            put,
            lambda condition: self._ask("PUT", bucket, name, headers=headers | condition),
            guards=self._guards_copies,
        )
        entry = Entry(put.key, put.size, None, await self._etag(put.key, text_of(answer.body, "ETag")))
        return Placed(entry, "server-copy", guarded)

    async def _copy_in_parts(self, put: Put, where: dict[str, str]) -> Placed:
        bucket, name = self._split(put.key)

        async def carry(upload: str, number: int, start: int, size: int) -> tuple[str, str]:
            headers = where | {"x-amz-copy-source-range": f"bytes={start}-{start + size - 1}", "content-length": "0"}
            query: Query = [("partNumber", str(number)), ("uploadId", upload)]
            what = f"Copying part {number} of {self._named(put.key)}"
            answer = await self._safely(
                lambda: self._good("PUT", bucket, name, query=query, headers=headers, what=what)
            )
            if _is_error(answer.body):
                raise error_from(answer.status, answer.headers, answer.body, what=what)
            return text_of(answer.body, "ETag"), ""

        async def nothing() -> None:
            """Every part was copied under If-Match of one ETag."""

        placed = await self._in_parts(put, max(piece_size(put.size), COPY_PART), carry, nothing)
        return placed._replace(proof="server-copy")

    async def _must_have_size(self, put: Put) -> None:
        found = (await self.stat(put.key)).entry
        if found.size != put.size:
            raise Corrupt(f"{self._named(put.key)}: {put.size} bytes were sent, {found.size} are there.")

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

    async def probe(self, prefix: bytes) -> Abilities:
        """A write with a wrong checksum: a store that verifies refuses it. What is stored all the same is taken away."""
        if not self._abilities.checksum:
            for header, wrong, name in (
                ("x-amz-checksum-crc64nvme", "AAAAAAAAAAE=", "crc64nvme"),
                ("content-md5", _md5(b"another body"), "md5"),
            ):
                if await self._refuses(prefix, {header: wrong}):
                    self._abilities = self._abilities._replace(checksum=name)
                    break
            if not await self._refuses(prefix, {"if-match": '"no-such-etag"'}):
                self._abilities = self._abilities._replace(create_only=False)  # it takes no notice of conditions
        return self._abilities

    async def _refuses(self, prefix: bytes, headers: dict[str, str]) -> bool:
        """Whether a small write with these headers is refused. If it isn't, what it left is taken away."""
        body = b"pinecart asks whether checksums are verified here"
        bucket, name = self._split(prefix + PROBE + secrets.token_hex(8).encode())
        payload = hashlib.sha256(body).hexdigest()
        full = headers | {"content-length": str(len(body))}

        async def one() -> Answer:
            answer = await self._ask("PUT", bucket, name, headers=full, body=body, payload=payload)
            if answer.status >= 500 and answer.status != 501:
                raise error_from(answer.status, answer.headers, answer.body, what=f"Probing {self.name}")
            return answer

        answer = await self._safely(one)
        if answer.status == 200:
            await self._safely(
                lambda: self._good("DELETE", bucket, name, what=f"Taking away our probe at {self.name}", ok=204)
            )
            return False
        error = error_from(answer.status, answer.headers, answer.body, what=f"Probing {self.name}")
        if answer.status == 403 or error.code == "store.no-bucket":
            raise error
        return answer.status in (400, 404, 409, 412, 501)

    def wrote(self, entry: Entry) -> None: ...

    def home(self, prefix: bytes) -> bytes:
        return b"" if self._root else prefix[: prefix.find(b"/") + 1]

    async def is_absent(self, key: bytes) -> bool:
        """A HEAD alone can't tell a missing key from a missing bucket: the listing of just this name has to agree."""
        bucket, name = self._split(key)
        if not await self._is_absent(key):
            return False
        page = await self._page(bucket, name, [("max-keys", "1")])
        return not any(e.key == b"" for e in page.entries)

    async def move(self, key: bytes, to: bytes, expected: Entry) -> Entry | None:
        return None

    async def remove(self, key: bytes, expected: Entry) -> bool:
        bucket, name = self._split(key)
        now = (await self.stat(key)).entry
        if (now.size, now.etag) != (expected.size, expected.etag):
            raise Taken(f"{self._named(key)} is not as it was when this was planned. It was not removed.")

        # Swift holds the condition against another ETag in a bucket that keeps versions; there nothing is lost without it.
        keeps = await self.keeps_versions(key)
        headers = {} if keeps else {"if-match": f'"{expected.etag}"'}
        guards = not keeps and await self._guards_removals(bucket, name)

        async def one() -> None:
            answer = await self._ask("DELETE", bucket, name, headers=headers)
            if answer.status == 501:  # knows no conditions
                answer = await self._ask("DELETE", bucket, name)
            if answer.status not in (200, 204, 404):
                raise error_from(answer.status, answer.headers, answer.body, what=f"Removing {self._named(key)}")

        await self._safely(one)
        return guards

    async def _guards_removals(self, bucket: str, name: bytes) -> bool:
        """Whether a delete's condition is held: asked once, by deleting a name of ours that isn't there, under one.

        Not for a bucket that keeps versions: it might keep a mark of that delete.
        """
        if self._removals_guarded is None:
            ours = name[: name.rfind(b"/") + 1] + PROBE + secrets.token_hex(8).encode()

            async def one(headers: dict[str, str]) -> int:
                answer = await self._ask("DELETE", bucket, ours, headers=headers)
                if answer.status >= 500 and answer.status != 501:
                    raise error_from(answer.status, answer.headers, answer.body, what=f"Probing {self.name}")
                return answer.status

            status = await self._safely(lambda: one({"if-match": '"no-such-etag"'}))
            # Some stores answer 404 to any delete of what isn't there: then it says nothing of the condition.
            self._removals_guarded = status == 412 or (status == 404 and await self._safely(lambda: one({})) == 204)
        return self._removals_guarded

    async def tidy(self, prefix: bytes, key: bytes) -> None:
        """A bucket has no folders."""

    async def clock_difference_s(self) -> float | None:
        """Seconds between our clock and the last answer's Date; None if there was none."""
        told = self._transport.last_date
        return None if told is None else (self._now() - told).total_seconds()

    async def make_bucket(self, name: str) -> bool:
        if self._root:
            raise Refused(
                f"{self.name} is confined to {show(self._root)}: no buckets are made there.", code="bucket.confined"
            )
        body = b""
        if self._region != "us-east-1":
            body = f"<CreateBucketConfiguration><LocationConstraint>{self._region}</LocationConstraint></CreateBucketConfiguration>".encode()
        if (await self._ask("HEAD", name)).status == 200:
            return False
        payload = hashlib.sha256(body).hexdigest()
        answer = await self._ask("PUT", name, headers={"content-length": str(len(body))}, body=body, payload=payload)
        if answer.status == 409 and b"BucketAlreadyOwnedByYou" in answer.body:
            return False
        if answer.status != 200:
            raise error_from(answer.status, answer.headers, answer.body, what=f"Making bucket {name!r} at {self.name}")
        return True

    async def drop_bucket(self, name: str) -> None:
        if self._root:
            raise Refused(
                f"{self.name} is confined to {show(self._root)}: no buckets are dropped there.", code="bucket.confined"
            )
        page = await self._page(name, b"", [("max-keys", "1")])
        if page.entries or page.folders:
            raise Refused(
                f"Bucket {name!r} at {self.name} is not empty. Only an empty bucket is dropped.",
                code="bucket.not-empty",
            )
        await self._good("DELETE", name, what=f"Dropping bucket {name!r} at {self.name}", ok=204)

    async def remove_probe(self, key: bytes) -> None:
        """Take away a small object of our own (the try's). Nothing else is ever deleted here."""
        if PROBE not in key:
            raise Unsafe(f"{show(key)} is not a probe of ours.")
        bucket, name = self._split(key)
        await self._safely(lambda: self._good("DELETE", bucket, name, what=f"Deleting {self._named(key)}", ok=204))

    async def close(self) -> None:
        await self._transport.close()

    # --- asking --------------------------------------------------------------------------------------------------

    def _split(self, key: bytes) -> tuple[str, bytes]:
        bucket, _, name = (self._root + key).partition(b"/")
        try:
            name.decode()
            return bucket.decode("ascii"), name
        except UnicodeDecodeError:
            raise Unsafe(
                f"{self._named(key)}: a bucket store takes only names that are UTF-8 text. Rename the file."
            ) from None

    def _changed(self, key: bytes) -> Changed:
        return Changed(f"{self._named(key)} changed while it was read. It is tried again in the next run.")

    def _named(self, key: bytes) -> str:
        return f"pine://{self.name}/{show(key)}"

    def _prepare(
        self, method: str, bucket: str, key: bytes, query: Query, headers: Mapping[str, str], payload: str
    ) -> tuple[str, str, dict[str, str]]:
        in_host = self._in_host and bucket != ""
        path = encoded_path("", key) if in_host else encoded_path(bucket, key)
        text = encoded_query(query)
        host = self._transport.authority(bucket if in_host else "")
        full = signed(method, path, text, {"host": host, **headers},
                      payload=payload, keys=self._keys, region=self._region, now=self._now())  # fmt: skip
        return path, f"?{text}" if text else "", full

    async def _ask(
        self, method: str, bucket: str, key: bytes = b"", *, query: Query | None = None,
        headers: Mapping[str, str] | None = None, body: bytes = b"", payload: str = EMPTY_SHA256,
    ) -> Answer:  # fmt: skip
        path, text, full = self._prepare(method, bucket, key, query or [], headers or {}, payload)
        answer = await self._transport.ask(method, path + text, full, body or None)
        if answer.status in (301, 307, 400) and not self._region_given:
            right = region_told(answer.status, answer.headers, answer.body)
            if right and right != self._region:  # nobody gave a region: the far side has told it
                self._region, self._region_given = right, True
                return await self._ask(method, bucket, key, query=query, headers=headers, body=body, payload=payload)
        return answer

    async def _good(
        self, method: str, bucket: str, key: bytes = b"", *, what: str, ok: int = 200, **rest: Any
    ) -> Answer:
        answer = await self._ask(method, bucket, key, **rest)
        if answer.status != ok:
            raise error_from(answer.status, answer.headers, answer.body, what=what)
        return answer

    async def _safely(self, call: Callable[[], Awaitable[T]]) -> T:
        """Repeat a request that changes nothing, with growing waits, while the other side is busy."""
        for tried in range(1, self._retry.times + 1):
            try:
                return await call()
            except Busy as exc:
                if tried == self._retry.times:
                    raise
                await asyncio.sleep(self._retry.wait_s(tried, exc.wait_s, random.random))
        raise AssertionError("unreachable")


class _Object:
    """An object opened for reading: every range asks for the same ETag."""

    def __init__(self, store: S3Store, key: bytes, entry: Entry, version: str = "") -> None:
        self._store, self._version = store, version
        self._key = key
        self.entry = entry
        self.card: Card | None = None
        self.content_type, self.metadata = "", dict[str, str]()
        self._crc = ""

    async def whole(self) -> bytes:
        """Checked against the store's own checksum, where it tells one."""
        try:
            body = await self._at_once()
        except Busy as exc:  # cut, or asked to go slower: piece by piece, with growing waits
            await asyncio.sleep(self._store._retry.wait_s(1, exc.wait_s, random.random))
            body = b"".join([c async for c in self.chunks()])
        if self._crc and crc_of(body) != self._crc:
            raise Corrupt(f"{self._store._named(self._key)}: the bytes did not arrive as the store has them.")
        return body

    async def _at_once(self) -> bytes:
        answer = await self._store._get_at_once(self._key, self.entry, version=self._version)
        if len(answer.body) < self.entry.size:
            raise Busy(f"{self._store._named(self._key)}: the answer was cut short.", code="store.cut")
        self._keep(answer.headers)
        return answer.body

    async def chunks(self) -> AsyncIterator[bytes]:
        """A cut line goes on where it was, by range and If-Match."""
        at, tried, retry = 0, 1, self._store._retry
        while at < self.entry.size or at == 0:
            try:
                async with self._store._get(self._key, self.entry.etag, at, version=self._version) as (headers, chunks):
                    self._keep(headers)
                    async for chunk in chunks:
                        at += len(chunk)
                        yield chunk
                if at < self.entry.size:
                    raise Busy(f"{self._store._named(self._key)}: the answer was cut short.", code="store.cut")
                return
            except Busy as exc:
                if tried == retry.times:
                    raise
                await asyncio.sleep(retry.wait_s(tried, exc.wait_s, random.random))
                tried += 1

    def _keep(self, headers: Mapping[str, str]) -> None:
        self._crc = headers.get("x-amz-checksum-crc64nvme", "") if "Content-Range" not in headers else self._crc
        self.metadata = _metadata(headers)
        self.card = Card.parse(self.metadata.pop("pinecart", None))
        self.content_type = headers.get("Content-Type", "")

    async def piece(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        return await self._store._safely(lambda: self._range(start, size, into))

    async def _range(self, start: int, size: int, into: bytearray | None) -> bytes:
        answer = await self._store._get_at_once(self._key, self.entry, start, start + size - 1, self._version, into)
        self._keep(answer.headers)
        if len(answer.body) != size:
            raise Busy(f"{self._store._named(self._key)}: the answer was cut short.", code="store.cut")
        return answer.body

    async def besides(self, keep: Keep) -> Extra:
        return Extra(tags=await self._store.tags(self._key)) if keep.tags else Extra()

    async def verify(self) -> None:
        """Nothing to ask: every byte came under If-Match of one ETag."""


def _is_error(body: bytes) -> bool:
    """An error inside a 200 answer is told by its root element, never by a word somewhere in it."""
    return body.lstrip()[:200].startswith((b"<?xml", b"<Error")) and root_of(body) == "Error"


def _of(version: str) -> Query:
    return [("versionId", version)] if version else []


def _after(key: bytes) -> Query:
    """Where a listing begins: under its name in version 2, and in version 1, which some stores only know."""
    return [("start-after", key), ("marker", key)]


def keys_of(spec: Mapping[str, Any]) -> Keys:
    if spec.get("anonymous"):
        return Keys("", "")
    return Keys(spec["key_id"], spec["secret"], spec.get("session_token") or "")


def _metadata(headers: Mapping[str, str]) -> dict[str, str]:
    return {k[11:].lower(): v for k, v in headers.items() if k.lower().startswith("x-amz-meta-")}


def _md5(body: bytes) -> str:
    return base64.b64encode(hashlib.md5(body, usedforsecurity=False).digest()).decode()


def _stat(key: bytes, answer: Answer) -> Stat:
    headers = answer.headers
    entry = Entry(key, int(headers.get("Content-Length", 0)), None, headers.get("ETag", "").strip('"'),
                  headers.get("x-amz-version-id", ""))  # fmt: skip
    crc = headers.get("x-amz-checksum-crc64nvme", "")
    metadata = _metadata(headers)
    return Stat(
        entry,
        Card.parse(metadata.pop("pinecart", None)),
        "" if "-" in crc else crc,
        headers.get("Content-Type", ""),
        metadata,
        headers.get("x-amz-storage-class", ""),
    )
