"""Requests to an S3-compatible store: signed, tried again where that is safe, and answered in our
own words.
"""

from __future__ import annotations

import hashlib
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping
from contextlib import asynccontextmanager
from datetime import UTC, datetime
from typing import Any, TypeVar

from pinecart.core.entries import Entry
from pinecart.core.errors import Busy, Changed, Refused, StoreError, Unsafe
from pinecart.core.places import show
from pinecart.core.ports import HEADERS, Stat, WriteStamp
from pinecart.core.retry import Retry
from pinecart.drivers.busy_retries import BusyRetries
from pinecart.drivers.http_message import HttpAnswer, Pieces
from pinecart.drivers.s3.signing import UNSIGNED, Keys, encoded_path, encoded_query, signed
from pinecart.drivers.s3.wire import (
    BUCKET_IN_HOST,
    BUCKET_IN_PATH,
    EMPTY_SHA256,
    is_bucket_name,
    number,
    parse_tags,
    region_told,
)
from pinecart.drivers.s3.wire_errors import error_from
from pinecart.drivers.transport import REST_S, Transport, transport_from

T = TypeVar("T")
LONGEST_KEY = 1024  # bytes (S3 API, object key names)
_NOT_AS_SIGNED = (b"<Code>SignatureDoesNotMatch</Code>", b"<Code>InvalidAccessKeyId</Code>")
MOST_GARBLED = 4  # in a row; then it is the key
Query = list[tuple[str, str | bytes]]
GONE = (200, 204, 404)  # what a removal answers, whether or not there was anything


class S3Client:
    """Requests to one endpoint with one key.

    root: what it is confined to, as `bucket/prefix/`; empty: all buckets.   system: which endpoint
    and key; two clients of one system may copy from each other.   signs_payload: whether contents
    are part of the signature.   in_host: buckets stand in the host's name.
    """

    def __init__(
        self,
        name: str,
        transport: Transport,
        keys: Keys,
        *,
        region: str = "",
        root: str = "",
        in_host: bool = False,
        signs_payload: bool = True,
        retry: Retry = Retry(),
        now: Callable[[], datetime] = lambda: datetime.now(UTC),
    ) -> None:
        self.name = name
        self._transport = transport
        self._keys = keys
        self.region, self._region_given = region or "us-east-1", bool(region)
        self._in_host = in_host
        self.root = root.encode().strip(b"/") + b"/" if root.strip("/") else b""
        self.retry = retry
        self.now = now
        self._was_well, self._garbled = False, 0
        self._retries = BusyRetries(retry)
        self.system = (transport.origin, keys)
        self.signs_payload = signs_payload and not transport.is_tls

    @property
    def rests_s(self) -> float:
        return self._transport.rests_s

    def rest(self, seconds: float) -> None:
        self._transport.rest(seconds)

    @property
    def requests_sent(self) -> int:
        return self._transport.sent

    def waits_for(self) -> str:
        """In words; empty: it answers."""
        return self._transport.waits_for(self.name) or self._retries.waits_for(self.name)

    def unfit(self, key: bytes) -> str:
        name = (self.root + key).partition(b"/")[2]
        if len(name) > LONGEST_KEY:
            return (
                f"{show(key)[:80]}… has {len(name):,} bytes, and a bucket takes {LONGEST_KEY:,} "
                "at most. Shorten it, or by a rule on the way."
            )
        try:
            name.decode()
        except UnicodeDecodeError:
            return (
                f"{self.named(key)}: a bucket store takes only names that are UTF-8 text. "
                "Rename the file."
            )
        return ""

    def renew(self, spec: Mapping[str, Any]) -> None:
        """Take up a new key, from the next request on."""
        self._keys, self._was_well = keys_of(spec), False
        self.system = (self.system[0], self._keys)

    @property
    def last_date(self) -> datetime | None:
        """The Date of the last answer."""
        return self._transport.last_date

    @property
    def origin(self) -> str:
        return self._transport.origin

    @property
    def is_safe(self) -> bool:
        """Whether the line itself sees to it that bytes arrive as they were sent."""
        return self._transport.is_tls

    @property
    def most_at_once(self) -> int:
        return self._transport.most_at_once

    @most_at_once.setter
    def most_at_once(self, most: int) -> None:
        self._transport.most_at_once = most

    async def stat(self, key: bytes, version: str = "") -> Stat:
        bucket, name = self.split(key)
        what = f"Looking at {self.named(key)}"
        ask = {"x-amz-checksum-mode": "ENABLED"}
        query = versioned(version)
        answer = await self.safely(
            lambda: self.good("HEAD", bucket, name, query=query, headers=ask, what=what)
        )
        return _stat(key, answer)

    async def tags(self, key: bytes) -> dict[str, str]:
        """Raises Refused (code "store.no-tags") where the store knows none."""
        bucket, name = self.split(key)
        answer = await self.safely(lambda: self.ask("GET", bucket, name, query=[("tagging", "")]))
        if answer.status in (405, 501):
            raise Refused(
                f"Store {self.name} knows no tags. Leave tags out of what is kept.",
                code="store.no-tags",
            )
        if answer.status != 200:
            raise error_of(
                answer,
                what=f"Reading the tags of {self.named(key)}",
            )
        return parse_tags(answer.body)

    @asynccontextmanager
    async def get(
        self, key: bytes, etag: str, start: int, version: str = ""
    ) -> AsyncIterator[tuple[Mapping[str, str], AsyncIterator[bytes]]]:
        wanted, target, headers = self._getting(key, etag, start, None, version)
        answer = self._transport.streamed("GET", target, headers)
        async with answer as (status, found, chunks):
            if status == 412:
                raise self._changed(key)
            if status != wanted:
                what = f"Reading {self.named(key)}"
                pieces = [chunk async for chunk in chunks]
                body = b"".join(pieces)
                raise error_from(status, found, body, what=what)
            yield found, chunks

    async def get_at_once(
        self,
        key: bytes,
        entry: Entry,
        start: int = 0,
        last: int | None = None,
        version: str = "",
        into: bytearray | None = None,
    ) -> HttpAnswer:
        """What is taken whole: a small object, or a piece of a large one."""
        wanted, target, headers = self._getting(key, entry.etag, start, last, version)
        most = max(entry.size if last is None else last - start + 1, 1 << 20)
        answer = await self._transport.ask("GET", target, headers, most=most, into=into)
        self._must_have_arrived(answer)
        if answer.status == 412:
            raise self._changed(key)
        if answer.status != wanted:
            raise error_of(
                answer,
                what=f"Reading {self.named(key)}",
            )
        return answer

    def _getting(
        self, key: bytes, etag: str, start: int, last: int | None, version: str
    ) -> tuple[int, str, dict[str, str]]:
        """The status that a right answer has, what to ask for, and the headers."""
        bucket, name = self.split(key)
        wanted = 200
        headers = {"if-match": f'"{etag}"', "x-amz-checksum-mode": "ENABLED"}
        if start > 0 or last is not None:
            wanted = 206
            end = "" if last is None else last
            headers["range"] = f"bytes={start}-{end}"
        which = versioned(version)
        path, query, full = self._prepare("GET", bucket, name, which, headers, EMPTY_SHA256)
        return wanted, path + query, full

    def split(self, key: bytes) -> tuple[str, bytes]:
        bucket, _, name = (self.root + key).partition(b"/")
        try:
            name.decode()
            return bucket.decode("ascii"), name
        except UnicodeDecodeError:
            raise Unsafe(
                f"{self.named(key)}: a bucket store takes only names that are UTF-8 text. "
                "Rename the file."
            ) from None

    def _check_bucket(self, bucket: str, *, in_host: bool) -> None:
        """Before a name becomes part of an address. Raises Unsafe."""
        if bucket and not is_bucket_name(bucket, in_host=in_host):
            rule = BUCKET_IN_HOST if in_host else BUCKET_IN_PATH
            raise Unsafe(
                (
                    f"{self.named(bucket.encode())}: {show(bucket.encode())!r} can't be a "
                    f"bucket's name. It has {rule}."
                ),
                code="store.bucket-name",
            )

    def _changed(self, key: bytes) -> Changed:
        return Changed(
            f"{self.named(key)} changed while it was read. It is tried again in the next run."
        )

    def named(self, key: bytes) -> str:
        return f"pine://{self.name}/{show(key)}"

    def signed_payload(self, body: bytes) -> str:
        return hashlib.sha256(body).hexdigest() if self.signs_payload else UNSIGNED

    def _prepare(
        self,
        method: str,
        bucket: str,
        key: bytes,
        query: Query,
        headers: Mapping[str, str],
        payload: str,
    ) -> tuple[str, str, dict[str, str]]:
        in_host = self._in_host and bucket != ""
        self._check_bucket(bucket, in_host=in_host)
        path = encoded_path("", key) if in_host else encoded_path(bucket, key)
        text = encoded_query(query)
        host = self._transport.authority(bucket if in_host else "")
        full = signed(
            method,
            path,
            text,
            {"host": host, **headers},
            payload=payload,
            keys=self._keys,
            region=self.region,
            now=self.now(),
        )
        return path, f"?{text}" if text else "", full

    async def ask(
        self,
        method: str,
        bucket: str,
        key: bytes = b"",
        *,
        query: Query | None = None,
        headers: Mapping[str, str] | None = None,
        body: bytes | Pieces = b"",
        payload: str = EMPTY_SHA256,
    ) -> HttpAnswer:
        path, text, full = self._prepare(method, bucket, key, query or [], headers or {}, payload)
        answer = await self._transport.ask(method, path + text, full, body or None)
        self._must_have_arrived(answer)
        if answer.status in (301, 307, 400) and not self._region_given:
            right = region_told(answer.status, answer.headers, answer.body)
            if right and right != self.region:  # nobody gave a region: the far side has told it
                self.region, self._region_given = right, True
                return await self.ask(
                    method, bucket, key, query=query, headers=headers, body=body, payload=payload
                )
        return answer

    def _must_have_arrived(self, answer: HttpAnswer) -> None:
        """Raises Busy for a request that did not arrive as it was signed, over a line that can do
        that to it, with a key that had been good: the next request will tell whether it still is.
        """
        if answer.status < 400:
            self._was_well, self._garbled = True, 0
        elif answer.status in (429, 503):
            usual_s = min(REST_S, self.retry.longest_s, self.retry.first_s * 5)
            self._transport.slow_down(answer.headers.get("Retry-After", ""), usual_s)
        elif answer.status == 403 and any(code in answer.body for code in _NOT_AS_SIGNED):
            self._garbled += 1
            if self._was_well and not self.is_safe and self._garbled < MOST_GARBLED:
                message = (
                    f"A request did not arrive at {self.name} as it was signed. It is tried again."
                )
                raise Busy(message, code="store.cut")

    async def good(
        self, method: str, bucket: str, key: bytes = b"", *, what: str, ok: int = 200, **rest: Any
    ) -> HttpAnswer:
        answer = await self.ask(method, bucket, key, **rest)
        if answer.status != ok:
            raise error_of(answer, what=what)
        return answer

    async def safely(self, call: Callable[[], Awaitable[T]], *, corrupted_too: bool = False) -> T:
        """Repeat a request that changes nothing."""
        return await self._retries.safely(call, corrupted_too=corrupted_too)

    async def close(self) -> None:
        await self._transport.close()


def error_of(answer: HttpAnswer, *, what: str) -> StoreError:
    """What an answer that is none of the good ones means."""
    return error_from(answer.status, answer.headers, bytes(answer.body), what=what)


def versioned(version: str) -> Query:
    return [("versionId", version)] if version else []


def metadata_of(headers: Mapping[str, str]) -> dict[str, str]:
    return {k[11:].lower(): v for k, v in headers.items() if k.lower().startswith("x-amz-meta-")}


def _stat(key: bytes, answer: HttpAnswer) -> Stat:
    headers = answer.headers
    entry = Entry(
        key,
        number(headers.get("Content-Length"), "size"),
        None,
        headers.get("ETag", "").strip('"'),
        headers.get("x-amz-version-id", ""),
    )
    crc = headers.get("x-amz-checksum-crc64nvme", "")
    metadata = metadata_of(headers)
    return Stat(
        entry,
        WriteStamp.parse(metadata.pop("pinecart", None)),
        "" if "-" in crc else crc,
        headers.get("Content-Type", ""),
        metadata,
        headers.get("x-amz-storage-class", ""),
        headers_of(headers),
    )


def headers_of(headers: Mapping[str, str]) -> dict[str, str]:
    """Those that belong to the object."""
    return {name: value for name in HEADERS if (value := headers.get(name))}


def client_from(spec: Mapping[str, Any]) -> S3Client:
    """From a store's fields and secrets."""
    client = S3Client(
        spec["name"],
        transport_from(spec["endpoint"], spec),
        keys_of(spec),
        region=spec.get("region") or "",
        root=spec.get("root") or "",
        in_host=spec.get("addressing") == "host",
        signs_payload=spec.get("sign_payload") != "no",
        retry=Retry(**spec.get("retry", {})),
    )
    client.most_at_once = int(spec.get("most_at_once") or 0)
    return client


def keys_of(spec: Mapping[str, Any]) -> Keys:
    if spec.get("anonymous"):
        return Keys("", "")
    return Keys(spec["key_id"], spec["secret"], spec.get("session_token") or "")
