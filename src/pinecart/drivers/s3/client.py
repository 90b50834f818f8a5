"""Requests to an S3-compatible store: signed, tried again where that is safe, and answered in our
own words.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from functools import partial
from typing import Any

from pinecart.core.errors import Busy, StoreError, Unsafe
from pinecart.core.places import show
from pinecart.core.retry import Retry
from pinecart.drivers.bucketed.client import (
    BucketClient,
    Dialect,
    ObjectTold,
    Prepared,
    Query,
    no_tags,
)
from pinecart.drivers.bucketed.wire import encoded_query
from pinecart.drivers.http_message import HttpAnswer
from pinecart.drivers.s3.signing import UNSIGNED, Keys, encoded_path, signed
from pinecart.drivers.s3.wire import (
    BUCKET_IN_HOST,
    BUCKET_IN_PATH,
    EMPTY_SHA256,
    is_bucket_name,
    parse_tags,
    region_told,
)
from pinecart.drivers.s3.wire_errors import error_from
from pinecart.drivers.transport import Transport, transport_from

_NOT_AS_SIGNED = (b"<Code>SignatureDoesNotMatch</Code>", b"<Code>InvalidAccessKeyId</Code>")
MOST_GARBLED = 4  # in a row; then it is the key


class S3Client(BucketClient):
    """signs_payload: whether contents are part of the signature.   in_host: buckets stand in the
    host's name.
    """

    dialect = Dialect(
        metadata="x-amz-meta-",
        version="versionId",
        version_told="x-amz-version-id",
        tier_told="x-amz-storage-class",
        looks={"x-amz-checksum-mode": "ENABLED"},
    )

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
        super().__init__(name, transport, root=root, retry=retry, now=now)
        self._keys = keys
        self.region = region or "us-east-1"
        self._region_given = bool(region)
        self._in_host = in_host
        self._was_well = False
        self._garbled = 0
        self.system = (transport.origin, keys)
        self.signs_payload = signs_payload and not transport.is_tls

    def renew(self, spec: Mapping[str, Any]) -> None:
        self._keys = keys_of(spec)
        self._was_well = False
        self.system = (self.system[0], self._keys)

    def told(self, headers: Mapping[str, str]) -> ObjectTold:
        crc = headers.get("x-amz-checksum-crc64nvme", "")
        return super().told(headers)._replace(crc="" if "-" in crc else crc)

    def may_be_of_parts(self, etag: str) -> bool:
        return "-" in etag

    def etag_of_parts(self, md5s: Sequence[bytes]) -> str:
        both = b"".join(md5s)
        return f"{hashlib.md5(both, usedforsecurity=False).hexdigest()}-{len(md5s)}"

    def error_from(
        self, status: int, headers: Mapping[str, str], body: bytes, *, what: str
    ) -> StoreError:
        return error_from(status, headers, body, what=what)

    async def tags(self, key: bytes) -> dict[str, str]:
        """Name → value. Raises StoreError."""
        bucket, name = self.split(key)
        query: Query = [("tagging", "")]
        ask = partial(self.ask, "GET", bucket, name, query=query)
        answer = await self.safely(ask)
        if answer.status in (405, 501):
            raise no_tags(self.name)
        if answer.status != 200:
            what = f"Reading the tags of {self.named(key)}"
            raise self.error_of(answer, what=what)
        return parse_tags(answer.body)

    async def ready(self) -> None:
        """Each request is signed by itself."""

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

    def signed_payload(self, body: bytes) -> str:
        if self.signs_payload:
            return hashlib.sha256(body).hexdigest()
        return UNSIGNED

    def prepared(
        self,
        method: str,
        bucket: str,
        key: bytes,
        query: Query,
        headers: Mapping[str, str],
        payload: str = "",
    ) -> Prepared:
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
            payload=payload or EMPTY_SHA256,
            keys=self._keys,
            region=self.region,
            now=self.now(),
        )
        return f"{path}?{text}" if text else path, full

    async def ask(self, method: str, bucket: str, key: bytes = b"", **rest: Any) -> HttpAnswer:
        """Once more where nobody gave a region, and the far side has told it."""
        ask = super().ask
        answer = await ask(method, bucket, key, **rest)
        if not self._region_given and answer.status in (301, 307, 400):
            right = region_told(answer.status, answer.headers, answer.body)
            if right and right != self.region:
                self.region = right
                self._region_given = True
                answer = await ask(method, bucket, key, **rest)
        if method == "HEAD" and key and answer.status in (400, 403):
            return await self._refusal_in_words(bucket, key, **rest)
        return answer

    async def _refusal_in_words(
        self, bucket: str, key: bytes, *, headers: Mapping[str, str], query: Query
    ) -> HttpAnswer:
        """A refused HEAD has no words: whether it is the key that isn't accepted is told where the
        object itself is asked for, which takes the same right.
        """
        asked = {**headers, "range": "bytes=0-0"}
        answer = await self.ask("GET", bucket, key, headers=asked, query=query)
        if answer.status in (200, 206, 416):
            named = f"pine://{self.name}/{bucket}/{show(key)}"
            raise Busy(f"{named} can't be looked at for now. It is tried again.")
        return answer

    def arrived(self, answer: HttpAnswer, sent: Mapping[str, str]) -> None:
        """Raises Busy for a request that did not arrive as it was signed, over a line that can do
        that to it, with a key that had been good: the next request will tell whether it still is.
        """
        if answer.status < 400:
            self._was_well = True
            self._garbled = 0
        super().arrived(answer, sent)
        if answer.status == 403 and any(code in answer.body for code in _NOT_AS_SIGNED):
            self._garbled += 1
            if self._was_well and not self.is_safe and self._garbled < MOST_GARBLED:
                message = (
                    f"A request did not arrive at {self.name} as it was signed. It is tried again."
                )
                raise Busy(message, code="store.cut")


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
