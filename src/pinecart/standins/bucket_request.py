"""What a bucket server is asked: which kind of request, with which bytes, and conditions."""

from __future__ import annotations

import base64
import hashlib
import re
from collections.abc import Callable
from dataclasses import dataclass
from email.utils import formatdate
from urllib.parse import unquote

from aiohttp import web
from awscrt import checksums

from pinecart.standins.bucket_shelf import Thing, base64_of
from pinecart.standins.bucket_xml import Fault

CHECKSUMS: dict[str, Callable[[bytes], str]] = {
    "x-amz-checksum-crc32": lambda b: base64_of(checksums.crc32(b), 4),
    "x-amz-checksum-crc32c": lambda b: base64_of(checksums.crc32c(b), 4),
    "x-amz-checksum-crc64nvme": lambda b: base64_of(checksums.crc64nvme(b), 8),
    "x-amz-checksum-sha256": lambda b: base64.b64encode(hashlib.sha256(b).digest()).decode(),
    "content-md5": lambda b: base64.b64encode(hashlib.md5(b).digest()).decode(),
}
KEPT = (
    "x-amz-tagging",
    "x-amz-storage-class",
    "content-type",
    "cache-control",
    "content-disposition",
    "content-encoding",
    "content-language",
    "expires",
)


@dataclass
class Asked:
    bucket: str
    key: str
    query: dict[str, str]
    body: bytes


_OBJECT_KINDS = {"GET": "get", "HEAD": "head", "DELETE": "delete", "PUT": "put"}
_BUCKET_KINDS = {
    "GET": "list",
    "HEAD": "head-bucket",
    "DELETE": "drop-bucket",
    "PUT": "make-bucket",
}


def kind_of(request: web.BaseRequest, bucket: str, key: str, query: dict[str, str]) -> str:
    """What is asked, in a word that counts and faults go by. The protocol tells it by method, path
    and query together.
    """
    if not bucket:
        return "list-buckets"
    by_upload = {"PUT": "part", "GET": "list-parts", "POST": "complete", "DELETE": "abort"}
    if "uploads" in query:
        return "start-upload" if request.method == "POST" else "list-uploads"
    if "uploadId" in query:
        return by_upload[request.method]
    if "versioning" in query:
        return "keep-versions" if request.method == "PUT" else "versioning"
    if "versions" in query:
        return "list-versions"
    if "tagging" in query and request.method == "GET":
        return "tags"
    if "delete" in query and request.method == "POST":
        return "bulk-delete"
    if "x-amz-copy-source" in request.headers:
        return "copy"
    return (_OBJECT_KINDS if key else _BUCKET_KINDS).get(request.method, "unknown")


def payload_of(request: web.BaseRequest, body: bytes) -> bytes:
    """The payload as it was meant, checked against its signed hash; chunked framing with trailers
    taken off.
    """
    told = request.headers.get("x-amz-content-sha256", "")
    if told.startswith("STREAMING-"):
        out = b""
        rest = body
        while rest:
            head, _, rest = rest.partition(b"\r\n")
            size = int(head.partition(b";")[0] or b"0", 16)
            if size == 0:
                break
            out += rest[:size]
            rest = rest[size + 2 :]
        return out
    if re.fullmatch("[0-9a-f]{64}", told) and hashlib.sha256(body).hexdigest() != told:
        raise Fault("XAmzContentSHA256Mismatch")
    return body


def check_body(request: web.BaseRequest, body: bytes, only: str = "") -> dict[str, str]:
    """The checksums that were given, once they have been found right; CRC-64/NVME is always among
    those kept.
    """
    given = {
        name: request.headers[name]
        for name in CHECKSUMS
        if name in request.headers and only in ("", name)
    }
    for name, value in given.items():
        if CHECKSUMS[name](body) != value:
            raise Fault("BadDigest")
    given.pop("content-md5", None)
    return given or {"x-amz-checksum-crc64nvme": CHECKSUMS["x-amz-checksum-crc64nvme"](body)}


def check_read(request: web.BaseRequest, thing: Thing) -> None:
    """Raises PreconditionFailed or NotModified, as the conditions of a reading request want it; the
    first is looked at first.
    """
    wanted = request.headers.get("If-Match")
    unwanted = request.headers.get("If-None-Match")
    if wanted and wanted.strip('"') != thing.etag:
        raise Fault("PreconditionFailed")
    if unwanted and unwanted.strip('"') == thing.etag:
        raise Fault("NotModified")


def kept_headers(request: web.BaseRequest) -> dict[str, str]:
    found = {k.lower(): v for k, v in request.headers.items()}
    return {k: v for k, v in found.items() if k.startswith("x-amz-meta-") or k in KEPT}


def shown_headers(headers: dict[str, str]) -> dict[str, str]:
    """As they are given back: of tags only their number."""
    tags = headers.pop("x-amz-tagging", "")
    return headers | ({"x-amz-tagging-count": str(tags.count("="))} if tags else {})


def headers_of(request: web.BaseRequest, thing: Thing, *, tells: bool = True) -> dict[str, str]:
    shown = (
        request.headers.get("x-amz-checksum-mode") == "ENABLED"
        and "Range" not in request.headers
        and tells
    )
    headers = {k: v for k, v in thing.headers.items() if shown or k not in CHECKSUMS}
    headers.setdefault("content-type", "binary/octet-stream")
    return (
        shown_headers(headers)
        | {
            "ETag": f'"{thing.etag}"',
            "Last-Modified": formatdate(thing.modified, usegmt=True),
            "Accept-Ranges": "bytes",
        }
        | version_header(thing)
    )


def version_header(thing: Thing) -> dict[str, str]:
    if thing.version:
        return {"x-amz-version-id": thing.version}
    return {}


def query_of(text: str) -> dict[str, str]:
    """As the protocol has it: a plus is a space, and a name may have no value. Of a name that comes
    twice, the last.
    """
    query = {}
    for part in text.split("&"):
        name, _, value = part.partition("=")
        if part:
            query[name] = unquote(value.replace("+", " "))
    return query


def range_of(wanted: re.Match[str], size: int) -> tuple[int, int]:
    """The first byte and the last that a Range header means."""
    first, last = wanted.groups()
    end = size - 1
    if not first:
        start = max(size - int(last), 0)
    else:
        start = int(first)
        if last:
            end = min(int(last), end)
    if start >= size:
        raise Fault("InvalidRange")
    return start, end
