"""Requests to one Swift account: signed in, and answered in our own words."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from functools import partial
from typing import Any
from urllib.parse import urlsplit

from pinecart.core.errors import StoreError, Unsafe
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
from pinecart.drivers.swift.sign_in import SwiftAccount, SwiftSignIn, account_of
from pinecart.drivers.swift.wire import (
    CONTAINER_RULE,
    Segment,
    encoded,
    etag_of_segments,
    is_container_name,
    parse_manifest,
)
from pinecart.drivers.swift.wire_errors import error_from
from pinecart.drivers.transport import Transport, transport_from

WHO = "x-auth-token"
EXPIRY = "x-delete-at"  # when the store itself takes an object away (seconds since 1970)
UPLOAD = "x-object-meta-pinecart-upload"  # whose parts a large object is made of
OWN = ("pinecart-upload", "static-large-object")  # metadata that is no user's: ours, and of a store
_DOTS = re.compile(r"(^|/)\.{1,2}(/|$)")


class SwiftClient(BucketClient):
    dialect = Dialect(
        metadata="x-object-meta-", version="version-id", version_told="X-Object-Version-Id"
    )

    def __init__(
        self,
        name: str,
        transport: Transport,
        way: Transport,
        account: SwiftAccount,
        *,
        root: str = "",
        retry: Retry = Retry(),
    ) -> None:
        super().__init__(name, transport, root=root, retry=retry)
        self._way = way
        self._sign_in = SwiftSignIn(name, account, way, transport.origin)
        self.system = (transport.origin, account)

    def renew(self, spec: Mapping[str, Any]) -> None:
        account = account_of(spec)
        self._sign_in.take_up(account)
        self.system = (self.system[0], account)

    async def ready(self) -> None:
        await self._sign_in.must_have_token()

    def split(self, key: bytes) -> tuple[str, bytes]:
        """A container's name may be any text."""
        bucket, _, name = (self.root + key).partition(b"/")
        try:
            name.decode()
            return bucket.decode(), name
        except UnicodeDecodeError:
            raise Unsafe(self.no_text(key)) from None

    def unfit(self, key: bytes) -> str:
        wrong = super().unfit(key)
        if wrong:
            return wrong
        name = (self.root + key).partition(b"/")[2]
        if b"\0" in name:
            return f"{self.named(key)}: the store takes no name with a zero byte. Rename it."
        return ""

    def prepared(
        self,
        method: str,
        bucket: str,
        key: bytes,
        query: Query,
        headers: Mapping[str, str],
        payload: str = "",
    ) -> Prepared:
        if bucket and not is_container_name(bucket):
            raise Unsafe(
                f"{self.named(bucket.encode())}: {show(bucket.encode())!r} can't be a container's "
                f"name. It has {CONTAINER_RULE}.",
                code="store.bucket-name",
            )
        path = self._sign_in.path + (encoded(bucket, key) if bucket else "")
        full = {**headers, WHO: self._sign_in.token}
        return f"{path}?{encoded_query(query)}" if query else path, full

    def arrived(self, answer: HttpAnswer, sent: Mapping[str, str]) -> None:
        """A token that is refused is given up, and the next request signs in anew; one that was let
        in is known to be good.
        """
        super().arrived(answer, sent)
        token = sent[WHO]
        if answer.status == 401:
            self._sign_in.refused(token)
        elif answer.status < 400:
            self._sign_in.well(token)

    def error_from(
        self, status: int, headers: Mapping[str, str], body: bytes, *, what: str
    ) -> StoreError:
        return error_from(status, headers, body, what=what)

    def told(self, headers: Mapping[str, str]) -> ObjectTold:
        """With the expiry that is kept, and the MD5 where it is of the content."""
        told = super().told(headers)
        expiry = headers.get(EXPIRY)
        kept = dict(told.headers)
        if expiry:
            kept[EXPIRY] = expiry
        # of a large object it is the MD5 of its segments' MD5s, which tells nothing of its content
        etag = "" if is_large(headers) else headers.get("ETag", "")
        for name in OWN:
            told.metadata.pop(name, None)
        return told._replace(headers=kept, md5=etag.strip('"'))

    def may_be_of_parts(self, etag: str) -> bool:
        return True

    def etag_of_parts(self, md5s: Sequence[bytes]) -> str:
        return etag_of_segments([md5.hex() for md5 in md5s])

    async def segments(self, key: bytes, version: str = "") -> list[Segment]:
        """Of a large object."""
        bucket, name = self.split(key)
        manifest: Query = [("multipart-manifest", "get"), ("format", "json")]
        query = [*manifest, *self.versioned(version)]
        what = f"Looking at the segments of {self.named(key)}"
        ask = partial(self.good, "GET", bucket, name, query=query, what=what)
        answer = await self.safely(ask)
        return parse_manifest(answer.body)

    async def tags(self, key: bytes) -> dict[str, str]:
        raise no_tags(self.name)

    async def close(self) -> None:
        await super().close()
        if self._way is not self._transport:
            await self._way.close()


def is_large(headers: Mapping[str, str]) -> bool:
    return headers.get("X-Static-Large-Object", "").lower() == "true"


def client_from(spec: Mapping[str, Any]) -> SwiftClient:
    """From a store's fields and secrets."""
    account = account_of(spec)
    where = account.storage_url or account.auth_url
    transport = transport_from(_origin(where), spec)
    is_one = not account.auth_url or _origin(account.auth_url) == _origin(where)
    way = transport if is_one else transport_from(_origin(account.auth_url), spec)
    client = SwiftClient(
        spec["name"],
        transport,
        way,
        account,
        root=spec.get("root") or "",
        retry=Retry(**spec.get("retry", {})),
    )
    client.most_at_once = int(spec.get("most_at_once") or 0)
    return client


def _origin(url: str) -> str:
    parts = urlsplit(url)
    return f"{parts.scheme}://{parts.netloc}"
