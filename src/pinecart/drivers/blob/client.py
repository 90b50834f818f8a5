"""Requests to one account's blob storage: signed, and answered in our own words."""

from __future__ import annotations

import base64
import re
from collections.abc import Mapping
from functools import partial
from typing import Any
from urllib.parse import quote, urlsplit

from pinecart.core.errors import StoreError, Unsafe
from pinecart.core.places import show
from pinecart.core.ports import HEADERS
from pinecart.core.retry import Retry
from pinecart.drivers.blob.signing import BlobAccount, key_of, signed
from pinecart.drivers.blob.wire import (
    API_VERSION,
    CONTAINER_RULE,
    is_container_name,
    metadata_read,
    parse_tags,
)
from pinecart.drivers.blob.wire_errors import error_from
from pinecart.drivers.bucketed.client import (
    BucketClient,
    Dialect,
    ObjectTold,
    Prepared,
    Query,
    no_tags,
)
from pinecart.drivers.transport import Transport, transport_from

LONGEST_NAME = 1024  # letters (blob service REST, naming)
KEPT = tuple(name for name in HEADERS if name != "expires")  # headers that a blob has
_DOTS = re.compile(r"(^|/)\.{1,2}(/|$)|^/")


class BlobClient(BucketClient):
    """base: the path of the account at its endpoint, where it is not in the host's name."""

    dialect = Dialect(
        metadata="x-ms-meta-",
        version="versionid",
        version_told="x-ms-version-id",
        tier_told="x-ms-access-tier",
    )
    longest_key = 4 * LONGEST_NAME

    def __init__(
        self,
        name: str,
        transport: Transport,
        account: BlobAccount,
        *,
        base: str = "",
        root: str = "",
        retry: Retry = Retry(),
    ) -> None:
        super().__init__(name, transport, root=root, retry=retry)
        self._account = account
        self._base = base
        self.system = (transport.origin, base, account)

    def renew(self, spec: Mapping[str, Any]) -> None:
        self._account = account_of(spec)
        self.system = (*self.system[:2], self._account)

    def unfit(self, key: bytes) -> str:
        wrong = super().unfit(key)
        if wrong:
            return wrong
        name = (self.root + key).partition(b"/")[2].decode()
        if len(name) > LONGEST_NAME:
            return (
                f"{show(key)[:80]}… has {len(name):,} letters, and the storage takes "
                f"{LONGEST_NAME:,} at most. Shorten it, or by a rule on the way."
            )
        if _DOTS.search(name):
            return (
                f"{self.named(key)}: the storage takes no name that begins with a slash or has a "
                "part that is . or .. alone. Rename it, or by a rule on the way."
            )
        return ""

    def _path(self, bucket: str, key: bytes) -> str:
        """Raises Unsafe for what can't be a name there."""
        container = bucket.encode()
        if bucket and not is_container_name(bucket):
            where = self.named(container)
            shown = show(container)
            message = f"{where}: {shown!r} can't be a container's name. It has {CONTAINER_RULE}."
            raise Unsafe(message, code="store.bucket-name")
        if _DOTS.search(key.decode()):
            whole = container + b"/" + key
            raise Unsafe(self.unfit(whole) or self.named(key))
        path = f"{self._base}/{bucket}"
        if key:
            name = quote(key, safe="/-_.~")
            path += f"/{name}"
        return path

    def prepared(
        self,
        method: str,
        bucket: str,
        key: bytes,
        query: Query,
        headers: Mapping[str, str],
        payload: str = "",
    ) -> Prepared:
        path = self._path(bucket, key)
        told = {"x-ms-version": API_VERSION, **headers}
        text, full = signed(method, path, query, told, self._account, self.now())
        return f"{path}?{text}" if text else path, full

    def url(self, key: bytes, version: str = "") -> str:
        """Of an object, as the storage itself may read it from."""
        text, _ = signed("GET", "", self.versioned(version), {}, self._account, self.now())
        return f"{self.origin}{self._path(*self.split(key))}" + (f"?{text}" if text else "")

    def error_from(
        self, status: int, headers: Mapping[str, str], body: bytes, *, what: str
    ) -> StoreError:
        return error_from(status, headers, body, what=what)

    async def ready(self) -> None:
        """Each request is signed by itself."""

    def told(self, headers: Mapping[str, str]) -> ObjectTold:
        told = super().told(headers)
        md5 = _hex(headers.get("content-md5", ""))
        return told._replace(metadata=metadata_read(told.metadata), md5=md5)

    async def tags(self, key: bytes) -> dict[str, str]:
        """Name → value. Raises StoreError."""
        bucket, name = self.split(key)
        query: Query = [("comp", "tags")]
        ask = partial(self.ask, "GET", bucket, name, query=query)
        answer = await self.safely(ask)
        if answer.status in (400, 405, 501):
            raise no_tags(self.name)
        if answer.status != 200:
            what = f"Reading the tags of {self.named(key)}"
            raise self.error_of(answer, what=what)
        return parse_tags(answer.body)


def _hex(md5: str) -> str:
    try:
        return base64.b64decode(md5, validate=True).hex()
    except ValueError:
        return ""


def account_name(endpoint: str) -> str:
    """As it stands in an address: the path where there is one, else the first part of the host."""
    parts = urlsplit(endpoint)
    return parts.path.strip("/").partition("/")[0] or (parts.hostname or "").partition(".")[0]


def account_of(spec: Mapping[str, Any]) -> BlobAccount:
    """A signature that is given is used, else the key; the bare account where neither is."""
    name = spec.get("account")
    if not name:
        name = account_name(spec["endpoint"])
    sas = (spec.get("sas") or "").lstrip("?")
    if sas:
        return BlobAccount(name, sas=sas)
    key = spec.get("key")
    return BlobAccount(name, key_of(key) if key else b"")


def client_from(spec: Mapping[str, Any]) -> BlobClient:
    """From a store's fields and secrets."""
    parts = urlsplit(spec["endpoint"])
    client = BlobClient(
        spec["name"],
        transport_from(f"{parts.scheme}://{parts.netloc}", spec),
        account_of(spec),
        base=parts.path.rstrip("/"),
        root=spec.get("root") or "",
        retry=Retry(**spec.get("retry", {})),
    )
    client.most_at_once = int(spec.get("most_at_once") or 0)
    return client
