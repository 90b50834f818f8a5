"""Requests to an S3-compatible store: signed, tried again where that is safe, and answered in our own words."""

from __future__ import annotations

import asyncio
import hashlib
import random
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping
from contextlib import asynccontextmanager
from datetime import UTC, datetime
from typing import Any, TypeVar

from pinecart.core.entries import Entry
from pinecart.core.errors import Busy, Changed, Refused, Unsafe
from pinecart.core.places import show
from pinecart.core.ports import Abilities, Card, Stat
from pinecart.core.retry import Retry
from pinecart.drivers.s3_wire import (
    EMPTY_SHA256,
    UNSIGNED,
    Keys,
    encoded_path,
    encoded_query,
    error_from,
    parse_page,
    parse_tags,
    region_told,
    signed,
)
from pinecart.drivers.transport import Answer, Pieces, Transport

T = TypeVar("T")
Query = list[tuple[str, str | bytes]]


class Asking:
    """What asks, and looks: one endpoint with one key. root: what it is confined to, as `bucket/prefix/`; empty: all buckets."""

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
        query = versioned(version)
        answer = await self._safely(lambda: self._good("HEAD", bucket, name, query=query, headers=ask, what=what))
        return _stat(key, answer)

    async def tags(self, key: bytes) -> dict[str, str]:
        """Raises Refused (code "store.no-tags") where the store knows none."""
        bucket, name = self._split(key)
        answer = await self._safely(lambda: self._ask("GET", bucket, name, query=[("tagging", "")]))
        if answer.status in (405, 501):
            raise Refused(f"Store {self.name} knows no tags. Leave tags out of what is kept.", code="store.no-tags")
        if answer.status != 200:
            raise error_from(answer.status, answer.headers, answer.body, what=f"Reading the tags of {self._named(key)}")
        return parse_tags(answer.body)

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
        path, query, full = self._prepare("GET", bucket, name, versioned(version), headers, EMPTY_SHA256)
        return 206 if ranged else 200, path + query, full

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

    def _hash(self, body: bytes) -> str:
        return hashlib.sha256(body).hexdigest() if self._signs_payload else UNSIGNED

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
        headers: Mapping[str, str] | None = None, body: bytes | Pieces = b"", payload: str = EMPTY_SHA256,
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

    async def close(self) -> None:
        await self._transport.close()


def versioned(version: str) -> Query:
    return [("versionId", version)] if version else []


def metadata_of(headers: Mapping[str, str]) -> dict[str, str]:
    return {k[11:].lower(): v for k, v in headers.items() if k.lower().startswith("x-amz-meta-")}


def _stat(key: bytes, answer: Answer) -> Stat:
    headers = answer.headers
    entry = Entry(key, int(headers.get("Content-Length", 0)), None, headers.get("ETag", "").strip('"'),
                  headers.get("x-amz-version-id", ""))  # fmt: skip
    crc = headers.get("x-amz-checksum-crc64nvme", "")
    metadata = metadata_of(headers)
    return Stat(
        entry,
        Card.parse(metadata.pop("pinecart", None)),
        "" if "-" in crc else crc,
        headers.get("Content-Type", ""),
        metadata,
        headers.get("x-amz-storage-class", ""),
    )


def keys_of(spec: Mapping[str, Any]) -> Keys:
    if spec.get("anonymous"):
        return Keys("", "")
    return Keys(spec["key_id"], spec["secret"], spec.get("session_token") or "")
