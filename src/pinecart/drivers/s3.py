"""S3-compatible object stores, whatever the maker: signs, lists, reads and writes by itself, one request an object."""

from __future__ import annotations

import asyncio
import base64
import hashlib
import random
import secrets
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping
from contextlib import asynccontextmanager
from datetime import UTC, datetime
from typing import Any, TypeVar

from pinecart.core.entries import Entry
from pinecart.core.errors import Busy, Changed, Corrupt, Incomplete, Missing, Refused, StoreError, Taken, Unsafe
from pinecart.core.places import show
from pinecart.core.ports import Abilities, Card, Level, Placed, Put, Stat
from pinecart.core.retry import Retry
from pinecart.drivers.s3_wire import (
    EMPTY_SHA256,
    UNSIGNED,
    Keys,
    encoded_path,
    encoded_query,
    error_from,
    parse_buckets,
    parse_page,
    signed,
)
from pinecart.drivers.transport import Allowed, Answer, Transport

T = TypeVar("T")
Query = list[tuple[str, str | bytes]]
PROBE = b".pinecart-probe-"


class S3Store:
    """One endpoint with one key. root: what it is confined to, as `bucket/prefix/`; empty: all buckets."""

    def __init__(
        self, name: str, transport: Transport, keys: Keys, *, region: str = "us-east-1", root: str = "",
        retry: Retry = Retry(), now: Callable[[], datetime] = lambda: datetime.now(UTC),
    ) -> None:  # fmt: skip
        self.name = name
        self._transport = transport
        self._keys = keys
        self._region = region
        self._root = root.encode().strip(b"/") + b"/" if root.strip("/") else b""
        self._retry = retry
        self._now = now
        self._abilities = Abilities(create_only=True, keeps_metadata=True, signs_payload=not transport.is_tls)

    @classmethod
    def from_spec(cls, spec: Mapping[str, Any]) -> S3Store:
        limits = {k: spec[k] for k in ("connect_s", "silence_s") if k in spec}
        transport = Transport(spec["endpoint"], allowed=Allowed(tuple(spec.get("allowed", ()))), **limits)
        keys = Keys(spec["key_id"], spec["secret"])
        store = cls(spec["name"], transport, keys, region=spec.get("region") or "us-east-1", root=spec.get("root") or "",
                    retry=Retry(**spec.get("retry", {})))  # fmt: skip
        known = spec.get("abilities") or {}
        store._abilities = store._abilities._replace(**{k: known[k] for k in ("create_only",) if k in known})
        return store

    async def abilities(self, prefix: bytes) -> Abilities:
        return self._abilities

    def identity(self, prefix: bytes) -> str:
        return f"s3:{self._transport.url.origin()}/{show(self._root + prefix)}"

    # --- looking -------------------------------------------------------------------------------------------------

    async def check_place(self, prefix: bytes) -> None:
        bucket, _ = self._split(prefix)
        if not bucket:
            raise Refused(
                f"pine://{self.name}/: name a bucket: the first part of the path.", code="store.no-bucket-named"
            )
        await self._page(bucket, b"", [("max-keys", "1")])

    async def list(self, prefix: bytes, *, after: bytes = b"") -> AsyncIterator[list[Entry]]:
        bucket, start = self._split(prefix)
        query: Query = [("start-after", start + after)] if after else []
        seen: set[str] = set()
        while True:
            page = await self._page(bucket, start, query)
            entries = [e for e in page.entries if e.key]
            if entries:
                yield entries
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
            query.append(
                ("start-after", start + (after[:-1] + b"/\xf4\x8f\xbf\xbf" if after.endswith(b"/") else after))
            )
        page = await self._page(bucket, start, query)
        last = max([e.key for e in page.entries] + page.folders, default=b"")
        return Level(page.folders, [e for e in page.entries if e.key], last if page.token else b"")

    async def _page(self, bucket: str, prefix: bytes, query: Query) -> Any:
        full: Query = [("list-type", "2"), ("encoding-type", "url"), *query]
        if prefix:
            full.append(("prefix", prefix))
        what = f"Listing {self.name}/{bucket}"

        async def one() -> Any:
            answer = await self._good("GET", bucket, query=full, what=what)
            return parse_page(answer.body, prefix=prefix)

        return await self._safely(one)

    async def stat(self, key: bytes) -> Stat:
        bucket, name = self._split(key)
        what = f"Looking at {self._named(key)}"
        ask = {"x-amz-checksum-mode": "ENABLED"}
        answer = await self._safely(lambda: self._good("HEAD", bucket, name, headers=ask, what=what))
        return _stat(key, answer)

    # --- reading -------------------------------------------------------------------------------------------------

    @asynccontextmanager
    async def open(self, key: bytes, expected: Entry | None = None) -> AsyncIterator[_Object]:
        entry = expected or (await self.stat(key)).entry
        yield _Object(self, key, entry)

    @asynccontextmanager
    async def _get(
        self, key: bytes, etag: str, start: int
    ) -> AsyncIterator[tuple[Mapping[str, str], AsyncIterator[bytes]]]:
        bucket, name = self._split(key)
        headers = {"if-match": f'"{etag}"'} | ({"range": f"bytes={start}-"} if start else {})
        path, query, full = self._prepare("GET", bucket, name, [], headers, EMPTY_SHA256)
        async with self._transport.streamed("GET", path + query, full) as (status, found, chunks):
            if status == 412:
                raise Changed(f"{self._named(key)} changed while it was read. It is tried again in the next run.")
            if status != (206 if start else 200):
                body = b"".join([c async for c in chunks])
                raise error_from(status, found, body, what=f"Reading {self._named(key)}")
            yield found, chunks

    # --- writing -------------------------------------------------------------------------------------------------

    async def put(self, put: Put) -> Placed:
        bucket, name = self._split(put.key)
        headers = {"x-amz-meta-pinecart": put.card.text(), "content-length": str(put.size)}
        if put.content_type:
            headers["content-type"] = put.content_type
        if self._abilities.checksum == "crc64nvme":
            headers |= {"x-amz-checksum-crc64nvme": put.card.crc}
        elif self._abilities.checksum == "md5" and isinstance(put.body, bytes):
            headers |= {"content-md5": _md5(put.body)}
        guarded = False
        if put.if_absent and self._abilities.create_only:
            headers, guarded = headers | {"if-none-match": "*"}, True
        elif put.expected is not None:
            now = (await self.stat(put.key)).entry
            if now.etag != put.expected.etag:
                raise Taken(f"{self._named(put.key)} is not as it was when this was planned. The next run looks again.")
        answer = await self._send(put, bucket, name, headers)
        if answer.status == 501 and guarded:
            self._abilities = self._abilities._replace(create_only=False)
            await self._must_be_absent(put.key)
            return await self.put(put)
        if answer.status != 200:
            raise error_from(answer.status, answer.headers, answer.body, what=f"Writing {self._named(put.key)}")
        version = answer.headers.get("x-amz-version-id", "")
        entry = Entry(put.key, put.size, None, answer.headers.get("ETag", "").strip('"'), version)
        if {"x-amz-checksum-crc64nvme", "content-md5"} & headers.keys():
            return Placed(entry, "server-verified", guarded)
        return Placed(await self._compared_by_size(put, entry), "size-only", guarded)

    async def _send(self, put: Put, bucket: str, name: bytes, headers: dict[str, str]) -> Answer:
        payload = UNSIGNED
        if not self._transport.is_tls:
            payload = hashlib.sha256(put.body).hexdigest() if isinstance(put.body, bytes) else put.sha256_hex
        path, query, full = self._prepare("PUT", bucket, name, [], headers, payload)
        if isinstance(put.body, bytes):
            return await self._transport.ask("PUT", path + query, full, put.body)
        stream = _Stream(put.body())
        try:
            return await self._transport.ask("PUT", path + query, full, stream)
        except StoreError:
            if stream.failed:  # our own source failed, not the line
                raise stream.failed from None
            raise

    async def _compared_by_size(self, put: Put, entry: Entry) -> Entry:
        found = (await self.stat(put.key)).entry
        if found.size != put.size:
            raise Corrupt(f"{self._named(put.key)}: {put.size} bytes were sent, {found.size} are there.")
        return entry

    async def _must_be_absent(self, key: bytes) -> None:
        try:
            await self.stat(key)
        except Missing:
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
        return self._abilities

    async def _refuses(self, prefix: bytes, headers: dict[str, str]) -> bool:
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
        if answer.status in (403, 404) and not isinstance(error, Corrupt):
            raise error
        return answer.status == 400

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

    def _named(self, key: bytes) -> str:
        return f"pine://{self.name}/{show(key)}"

    def _prepare(
        self, method: str, bucket: str, key: bytes, query: Query, headers: Mapping[str, str], payload: str
    ) -> tuple[str, str, dict[str, str]]:
        path = encoded_path(bucket, key)
        text = encoded_query(query)
        full = signed(method, path, text, {"host": self._transport.host, **headers},
                      payload=payload, keys=self._keys, region=self._region, now=self._now())  # fmt: skip
        return path, f"?{text}" if text else "", full

    async def _ask(
        self, method: str, bucket: str, key: bytes = b"", *, query: Query | None = None,
        headers: Mapping[str, str] | None = None, body: bytes = b"", payload: str = EMPTY_SHA256,
    ) -> Answer:  # fmt: skip
        path, text, full = self._prepare(method, bucket, key, query or [], headers or {}, payload)
        return await self._transport.ask(method, path + text, full, body or None)

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

    def __init__(self, store: S3Store, key: bytes, entry: Entry) -> None:
        self._store = store
        self._key = key
        self.entry = entry
        self.card: Card | None = None

    async def whole(self) -> bytes:
        return b"".join([c async for c in self.chunks()])

    async def chunks(self) -> AsyncIterator[bytes]:
        """A cut line goes on where it was, by range and If-Match."""
        at, tried, retry = 0, 1, self._store._retry
        while at < self.entry.size or at == 0:
            try:
                async with self._store._get(self._key, self.entry.etag, at) as (headers, chunks):
                    self.card = Card.parse(headers.get("x-amz-meta-pinecart"))
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

    async def verify(self) -> None:
        """Nothing to ask: every byte came under If-Match of one ETag."""


class _Stream:
    """A request body that remembers why it failed."""

    def __init__(self, chunks: AsyncIterator[bytes]) -> None:
        self._chunks = chunks
        self.failed: StoreError | None = None

    async def __aiter__(self) -> AsyncIterator[bytes]:
        try:
            async for chunk in self._chunks:
                yield chunk
        except StoreError as exc:
            self.failed = exc
            raise


def _md5(body: bytes) -> str:
    return base64.b64encode(hashlib.md5(body, usedforsecurity=False).digest()).decode()


def _stat(key: bytes, answer: Answer) -> Stat:
    headers = answer.headers
    entry = Entry(key, int(headers.get("Content-Length", 0)), None, headers.get("ETag", "").strip('"'),
                  headers.get("x-amz-version-id", ""))  # fmt: skip
    crc = headers.get("x-amz-checksum-crc64nvme", "")
    metadata = {k[11:].lower(): v for k, v in headers.items() if k.lower().startswith("x-amz-meta-")}
    return Stat(
        entry,
        Card.parse(metadata.pop("pinecart", None)),
        "" if "-" in crc else crc,
        headers.get("Content-Type", ""),
        metadata,
    )
