"""A small S3-compatible server over one Shelf: what the protocol's documents say, for the
operations Pine Cart needs.

It counts requests by kind, and can be told to delay, fail or pace them: `behaviour`, or POST
/_standin/behaviour.
"""

from __future__ import annotations

import asyncio
import base64
import hashlib
import re
import secrets
import time
import xml.etree.ElementTree as ET
from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email.utils import formatdate
from functools import partial
from typing import Any
from urllib.parse import parse_qsl, quote, unquote, unquote_to_bytes
from xml.sax.saxutils import escape

from aiohttp import web
from awscrt import checksums

from pinecart.standins.bucket_shelf import Shelf, Thing, base64_of
from pinecart.standins.bucket_sign import Denied, who_signed

CHECKSUMS: dict[str, Callable[[bytes], str]] = {
    "x-amz-checksum-crc32": lambda b: base64_of(checksums.crc32(b), 4),
    "x-amz-checksum-crc32c": lambda b: base64_of(checksums.crc32c(b), 4),
    "x-amz-checksum-crc64nvme": lambda b: base64_of(checksums.crc64nvme(b), 8),
    "x-amz-checksum-sha256": lambda b: base64.b64encode(hashlib.sha256(b).digest()).decode(),
    "content-md5": lambda b: base64.b64encode(hashlib.md5(b).digest()).decode(),
}
STATUS = {
    "AccessDenied": 403,
    "InvalidAccessKeyId": 403,
    "SignatureDoesNotMatch": 403,
    "RequestTimeTooSkewed": 403,
    "NoSuchKey": 404,
    "NoSuchBucket": 404,
    "NoSuchUpload": 404,
    "NoSuchVersion": 404,
    "BucketNotEmpty": 409,
    "BucketAlreadyOwnedByYou": 409,
    "BucketAlreadyExists": 409,
    "PreconditionFailed": 412,
    "BadDigest": 400,
    "XAmzContentSHA256Mismatch": 400,
    "InvalidPart": 400,
    "InvalidBucketName": 400,
    "InvalidRange": 416,
    "SlowDown": 503,
    "InternalError": 500,
    "NotImplemented": 501,
    "MethodNotAllowed": 405,
    "InvalidArgument": 400,
    "RequestTimeout": 400,
    "IncompleteBody": 400,
    "NotModified": 304,
    "MalformedXML": 400,
    "AuthorizationHeaderMalformed": 400,
    "InvalidToken": 403,
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
WRITES = {
    "put",
    "keep-versions",
    "copy",
    "delete",
    "bulk-delete",
    "make-bucket",
    "drop-bucket",
    "start-upload",
    "part",
    "complete",
    "abort",
}


MOST_KEYS = 1000  # on a page of a listing
OLD_WAYS = (
    "conditions-refused",  # a conditional write is answered 501
    "conditions-ignored",  # … or carried out as if there were no condition
    "checksums-ignored",
    "listing-1",  # knows only listing version 1
    "listing-cut",
    "listing-unordered",
    "listing-repeats",
    "checksums-untold",  # verified, and never given back
    "token-raw",  # a listing's token is the last key as it is, whatever XML can hold
    "copies-garble-tags",
    "etags-opaque",  # no MD5s, as where objects are encrypted
)


class Fault(Exception):
    def __init__(self, code: str, *, region: str = "") -> None:
        super().__init__(code)
        self.code, self.region = code, region


@dataclass
class Account:
    """session: the token that a temporary key needs with every request."""

    secret: str
    may_write: bool = True
    session: str = ""


@dataclass
class Behaviour:
    """How one kind of request is treated. times: how often it fails (-1: always). match: only keys
    that contain it.

    lost: the request is carried out, and its answer is lost (the line is cut).
    """

    delay_s: float = 0
    per_second: float = 0
    fail: str = ""
    times: int = -1
    match: str = ""
    lost: bool = False


@dataclass
class BucketServer:
    """old: ways of older or careless servers, any of OLD_WAYS."""

    accounts: dict[str, Account]
    shelf: Shelf = field(default_factory=Shelf)
    region: str = "us-east-1"
    open_to_all: bool = False
    old: frozenset[str] = frozenset()
    taken: frozenset[str] = frozenset()  # bucket names that belong to somebody else
    counts: Counter[str] = field(default_factory=Counter)
    behaviour: dict[str, Behaviour] = field(default_factory=dict)
    now: Callable[[], datetime] = lambda: datetime.now(UTC)
    _turn: dict[str, float] = field(default_factory=dict)

    async def handle(self, request: web.BaseRequest) -> web.StreamResponse:
        answer = await self._handled(request)
        answer.headers["Date"] = formatdate(self.now().timestamp(), usegmt=True)
        return answer

    async def _handled(self, request: web.BaseRequest) -> web.StreamResponse:
        raw = request.raw_path
        if raw.startswith("/_standin/"):
            return await self._control(request)
        path = raw.partition("?")[0]
        bucket, _, key = unquote_to_bytes(self._in_host(request) + path[1:]).decode().partition("/")
        query = {
            k: unquote(v.replace("+", " "))
            for k, _, v in (p.partition("=") for p in raw.partition("?")[2].split("&") if p)
        }
        kind = _kind(request, bucket, key, query)
        if request.headers.get("Expect", "").lower() == "100-continue" and request.transport:
            request.transport.write(b"HTTP/1.1 100 Continue\r\n\r\n")
        body = b"".join([c async for c in request.content.iter_chunked(1 << 20)])
        self.counts[kind] += 1
        try:
            account = self._sign_in(request, raw)
            told = await self._behave(kind, key)
            if kind in WRITES and not account.may_write:
                raise Fault("AccessDenied")
            answer = self._answer(kind, request, _Asked(bucket, key, query, _body(request, body)))
            if kind == "list" and "listing-cut" in self.old and isinstance(answer.body, bytes):
                answer.body = answer.body[: len(answer.body) // 2]
            if told and told.lost:
                assert request.transport
                request.transport.close()
            return answer
        except Fault as fault:
            return _fault(fault, request.method == "HEAD")

    def _in_host(self, request: web.BaseRequest) -> str:
        """The bucket, where it is named in front of the host: `larkfell.localhost`."""
        name, dot, rest = request.headers.get("Host", "").partition(".")
        return f"{name}/" if dot and rest.startswith("localhost") else ""

    def _sign_in(self, request: web.BaseRequest, raw: str) -> Account:
        known = {k: a.secret for k, a in self.accounts.items()}
        try:
            if (
                self.open_to_all
                and "Authorization" not in request.headers
                and "X-Amz-Signature" not in raw
            ):
                return Account("", may_write=False)
            signer = who_signed(
                request.method, raw, request.headers, known, now=self.now(), region=self.region
            )
            if self.accounts[signer].session != request.headers.get("x-amz-security-token", ""):
                raise Fault("InvalidToken")
            return self.accounts[signer]
        except Denied as exc:
            raise Fault(exc.code, region=self.region) from exc

    async def _behave(self, kind: str, key: str) -> Behaviour | None:
        told = self.behaviour.get(kind)
        if told is None or told.match not in key:
            return None
        if told.delay_s:
            await asyncio.sleep(told.delay_s)
        if told.per_second:
            due = max(self._turn.get(kind, 0), time.monotonic()) + 1 / told.per_second
            self._turn[kind] = due
            await asyncio.sleep(due - time.monotonic())
        if told.times == 0:
            return None
        told.times -= told.times > 0
        if told.fail:
            raise Fault(told.fail)
        return told

    async def _control(self, request: web.BaseRequest) -> web.Response:
        if request.method == "POST":
            told = await request.json()
            self.behaviour = {kind: Behaviour(**fields) for kind, fields in told.items()}
        return web.json_response({"counts": dict(self.counts)})

    # --- operations

    def _answer(self, kind: str, request: web.BaseRequest, asked: _Asked) -> web.Response:
        if kind == "list-buckets":
            return _xml(
                "ListAllMyBucketsResult",
                _tag(
                    "Buckets", *(_tag("Bucket", _t("Name", b)) for b in sorted(self.shelf.buckets))
                ),
            )
        if kind == "make-bucket":
            return self._make_bucket(asked.bucket)
        if asked.bucket in self.taken:
            raise Fault("AccessDenied")
        if asked.bucket not in self.shelf.buckets:
            raise Fault("NoSuchBucket")
        call: Callable[[web.BaseRequest, _Asked], web.Response] = getattr(
            self, "_" + kind.replace("-", "_")
        )
        return call(request, asked)

    def _make_bucket(self, bucket: str) -> web.Response:
        if not re.fullmatch(r"[a-z0-9][a-z0-9.-]{1,61}[a-z0-9]", bucket):
            raise Fault("InvalidBucketName")
        if bucket in self.taken:
            raise Fault("BucketAlreadyExists")
        if bucket in self.shelf.buckets:
            raise Fault("BucketAlreadyOwnedByYou")
        self.shelf.make(bucket)
        return web.Response(headers={"Location": f"/{bucket}"})

    def _head_bucket(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        return web.Response(headers={"x-amz-bucket-region": self.region})

    def _drop_bucket(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        if self.shelf.buckets[asked.bucket]:
            raise Fault("BucketNotEmpty")
        self.shelf.drop(asked.bucket)
        return web.Response(status=204)

    def _list(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        query, encode = asked.query, (quote if asked.query.get("encoding-type") == "url" else str)
        prefix, delimiter = query.get("prefix", ""), query.get("delimiter", "")
        limit = min(int(query.get("max-keys", MOST_KEYS)), MOST_KEYS)
        token = query.get("continuation-token", "")
        first = "listing-1" in self.old
        after = (
            base64.urlsafe_b64decode(token).decode()
            if token and not first
            else query.get("start-after", "")
        )
        after = query.get("marker", "") if first else after
        rows: list[str] = []
        last, seen, more = after, set[str](), False
        for key in self.shelf.keys_after(asked.bucket, after):
            if not key.startswith(prefix):
                continue
            cut = key.find(delimiter, len(prefix)) if delimiter else -1
            folder = key[: cut + len(delimiter)] if cut >= 0 else ""
            if folder and (folder in seen or (after.startswith(folder) and token)):
                last = key
                continue
            if len(rows) == limit:
                more = True
                break
            last = key
            if folder:
                seen.add(folder)
                rows.append(_tag("CommonPrefixes", _t("Prefix", encode(folder))))
            else:
                rows.append(_contents(encode(key), self.shelf.buckets[asked.bucket][key]))
        if "listing-unordered" in self.old:
            rows.reverse()
        if "listing-repeats" in self.old:
            rows += rows[-1:]
        if first:
            return _xml(
                "ListBucketResult",
                _t("Name", asked.bucket),
                _t("IsTruncated", str(more).lower()),
                *rows,
                *([_t("EncodingType", "url")] if encode is quote else []),
            )
        next_token = base64.urlsafe_b64encode(last.encode()).decode()
        if "token-raw" in self.old:
            raw = "".join(f"<NextContinuationToken>{last}</NextContinuationToken>" if more else "")
            raw += (
                f"<StartAfter>{query['start-after']}</StartAfter>" if "start-after" in query else ""
            )
            return _xml(
                "ListBucketResult",
                _t("KeyCount", len(rows)),
                _t("IsTruncated", str(more).lower()),
                raw,
                *rows,
                *([_t("EncodingType", "url")] if encode is quote else []),
            )
        return _xml(
            "ListBucketResult",
            _t("Name", asked.bucket),
            _t("Prefix", encode(prefix)),
            _t("KeyCount", len(rows)),
            _t("MaxKeys", limit),
            _t("IsTruncated", str(more).lower()),
            *rows,
            *([_t("EncodingType", "url")] if encode is quote else []),
            *([_t("NextContinuationToken", next_token)] if more else []),
        )

    def _thing(self, asked: _Asked) -> Thing:
        wanted = asked.query.get("versionId")
        if wanted is None:
            thing = self.shelf.buckets[asked.bucket].get(asked.key)
        else:
            thing = next(
                (t for t in self.shelf.versions(asked.bucket, asked.key) if t.version == wanted),
                None,
            )
        if thing is None:
            raise Fault("NoSuchVersion" if wanted else "NoSuchKey")
        if thing.gone:
            raise Fault("MethodNotAllowed")
        return thing

    def _versioning(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        keeps = asked.bucket in self.shelf.versioned
        return _xml("VersioningConfiguration", *([_t("Status", "Enabled")] if keeps else []))

    def _keep_versions(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        status = next((n.get("Status") for n in _nodes(asked.body, "VersioningConfiguration")), "")
        (self.shelf.versioned.add if status == "Enabled" else self.shelf.versioned.discard)(
            asked.bucket
        )
        return web.Response()

    def _list_versions(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        past = {k for b, k in self.shelf.past if b == asked.bucket}
        encode = quote if asked.query.get("encoding-type") == "url" else str
        rows = []
        for key in sorted({*self.shelf.buckets[asked.bucket], *past}, key=str.encode):
            for n, thing in enumerate(self.shelf.versions(asked.bucket, key)):
                told = [
                    _t("Key", encode(key)),
                    _t("VersionId", thing.version or "null"),
                    _t("IsLatest", str(n == 0).lower()),
                    _t("LastModified", _iso(thing.modified)),
                ]
                more = [] if thing.gone else [_t("ETag", f'"{thing.etag}"'), _t("Size", thing.size)]
                if key.startswith(asked.query.get("prefix", "")):
                    rows.append(_tag("DeleteMarker" if thing.gone else "Version", *told, *more))
        encoding = [_t("EncodingType", "url")] if encode is quote else []
        return _xml(
            "ListVersionsResult",
            _t("Name", asked.bucket),
            _t("IsTruncated", "false"),
            *encoding,
            *rows,
        )

    def _head(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        thing = self._thing(asked)
        _check_read(request, thing)
        headers = _headers(request, thing, tells=self._tells_checksums)
        return web.Response(headers=headers | {"Content-Length": str(thing.size)})

    def _get(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        thing = self._thing(asked)
        _check_read(request, thing)
        body = partial(self.shelf.body, asked.bucket, asked.key, thing)
        headers = _headers(request, thing, tells=self._tells_checksums)
        wanted = re.fullmatch(r"bytes=(\d*)-(\d*)", request.headers.get("Range", ""))
        if not wanted:
            return web.Response(body=body(), headers=headers)
        first, last = wanted.groups()
        start = int(first) if first else max(thing.size - int(last), 0)
        end = min(int(last), thing.size - 1) if first and last else thing.size - 1
        if start >= thing.size:
            raise Fault("InvalidRange")
        headers["Content-Range"] = f"bytes {start}-{end}/{thing.size}"
        return web.Response(status=206, body=body(start, end + 1), headers=headers)

    @property
    def _tells_checksums(self) -> bool:
        return "checksums-untold" not in self.old

    def _etag(self) -> str:
        """Another ETag than the MD5; empty: the MD5."""
        return secrets.token_hex(16) if "etags-opaque" in self.old else ""

    def _tags(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        tags = parse_qsl(
            self._thing(asked).headers.get("x-amz-tagging", ""), keep_blank_values=True
        )
        return _xml(
            "Tagging", _tag("TagSet", *(_tag("Tag", _t("Key", k), _t("Value", v)) for k, v in tags))
        )

    def _put(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        self._check_write(request, asked)
        found = {} if "checksums-ignored" in self.old else _check_body(request, asked.body)
        thing = self.shelf.put(
            asked.bucket, asked.key, asked.body, _kept(request) | found, self._etag()
        )
        return web.Response(headers={"ETag": f'"{thing.etag}"', **found} | _version(thing))

    def _check_write(self, request: web.BaseRequest, asked: _Asked) -> None:
        if (
            "conditions-refused" in self.old
            and {"If-Match", "If-None-Match"} & request.headers.keys()
        ):
            raise Fault("NotImplemented")
        if "conditions-ignored" in self.old:
            return
        there = self.shelf.buckets[asked.bucket].get(asked.key)
        if request.headers.get("If-None-Match") == "*" and there:
            raise Fault("PreconditionFailed")
        wanted = request.headers.get("If-Match")
        if wanted and there is None:
            raise Fault("NoSuchKey")
        if wanted and there and wanted.strip('"') != there.etag:
            raise Fault("PreconditionFailed")

    def _copy_source(self, request: web.BaseRequest) -> tuple[str, str, Thing]:
        named, _, version = (
            request.headers["x-amz-copy-source"].removeprefix("/").partition("?versionId=")
        )
        bucket, _, key = unquote(named).partition("/")
        if bucket not in self.shelf.buckets:
            raise Fault("NoSuchBucket")
        source = self._thing(_Asked(bucket, key, {"versionId": version} if version else {}, b""))
        wanted = request.headers.get("x-amz-copy-source-if-match", "")
        if wanted and wanted.strip('"') != source.etag:
            raise Fault("PreconditionFailed")
        return bucket, key, source

    def _copy(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        self._check_write(request, asked)
        bucket, key, source = self._copy_source(request)
        replace = request.headers.get("x-amz-metadata-directive") == "REPLACE"
        sums = {k: v for k, v in source.headers.items() if k in CHECKSUMS}
        headers = _kept(request) | sums if replace else dict(source.headers)
        if "x-amz-storage-class" in request.headers:
            headers["x-amz-storage-class"] = request.headers["x-amz-storage-class"]
        if "copies-garble-tags" in self.old and replace is False:
            headers.pop("x-amz-tagging", None)
        thing = self.shelf.put(
            asked.bucket, asked.key, self.shelf.body(bucket, key, source), headers, self._etag()
        )
        crc = headers.get("x-amz-checksum-crc64nvme", "") if self._tells_checksums else ""
        told = [_t("ChecksumCRC64NVME", crc)] if crc else []
        return _xml(
            "CopyObjectResult",
            _t("ETag", f'"{thing.etag}"'),
            _t("LastModified", _iso(thing.modified)),
            *told,
        )

    def _delete(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        if request.headers.get("If-Match"):
            self._check_write(request, asked)
        self.shelf.delete(asked.bucket, asked.key, asked.query.get("versionId", ""))
        return web.Response(status=204)

    def _bulk_delete(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        _check_body(request, asked.body)
        rows = []
        for node in _nodes(asked.body, "Object"):
            self.shelf.delete(asked.bucket, node["Key"])
            rows.append(_tag("Deleted", _t("Key", node["Key"])))
        return _xml("DeleteResult", *rows)

    def _start_upload(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        name = self.shelf.start_upload(asked.bucket, asked.key, _kept(request))
        return _xml(
            "InitiateMultipartUploadResult",
            _t("Bucket", asked.bucket),
            _t("Key", asked.key),
            _t("UploadId", name),
        )

    def _upload(self, asked: _Asked) -> Any:
        upload = self.shelf.uploads.get(asked.query.get("uploadId", ""))
        if upload is None or (upload.bucket, upload.key) != (asked.bucket, asked.key):
            raise Fault("NoSuchUpload")
        return upload

    def _part(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        if "x-amz-copy-source" in request.headers:
            return self._part_copied(request, asked)
        found = _check_body(request, asked.body)
        etag = hashlib.md5(asked.body).hexdigest()
        self._upload(asked).parts[int(asked.query["partNumber"])] = (etag, asked.body, found)
        return web.Response(headers={"ETag": f'"{etag}"', **found})

    def _part_copied(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        bucket, key, source = self._copy_source(request)
        first, last = re.findall(
            r"\d+", request.headers.get("x-amz-copy-source-range", f"0-{source.size - 1}")
        )
        body = self.shelf.body(bucket, key, source, int(first), int(last) + 1)
        etag = hashlib.md5(body).hexdigest()
        self._upload(asked).parts[int(asked.query["partNumber"])] = (etag, body, {})
        return _xml("CopyPartResult", _t("ETag", f'"{etag}"'))

    def _list_parts(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        parts = sorted(self._upload(asked).parts.items())
        rows = (
            _tag("Part", _t("PartNumber", n), _t("ETag", f'"{e}"'), _t("Size", len(b)))
            for n, (e, b, _) in parts
        )
        return _xml(
            "ListPartsResult",
            _t("UploadId", asked.query["uploadId"]),
            _t("IsTruncated", "false"),
            *rows,
        )

    def _complete(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        upload = self._upload(asked)
        self._check_write(request, asked)
        wanted = [(int(n["PartNumber"]), n["ETag"].strip('"')) for n in _nodes(asked.body, "Part")]
        if any(n not in upload.parts or upload.parts[n][0] != e for n, e in wanted) or not wanted:
            raise Fault("InvalidPart")
        body = b"".join(upload.parts[n][1] for n, _ in wanted)
        found = _check_body(request, body, only="x-amz-checksum-crc64nvme")
        etag = (
            self._etag() or hashlib.md5(b"".join(bytes.fromhex(e) for _, e in wanted)).hexdigest()
        )
        etag += f"-{len(wanted)}"
        self.shelf.put(asked.bucket, asked.key, body, upload.headers | found, etag)
        del self.shelf.uploads[asked.query["uploadId"]]
        return _xml("CompleteMultipartUploadResult", _t("Key", asked.key), _t("ETag", f'"{etag}"'))

    def _abort(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        self._upload(asked)
        del self.shelf.uploads[asked.query["uploadId"]]
        return web.Response(status=204)

    def _list_uploads(self, request: web.BaseRequest, asked: _Asked) -> web.Response:
        found = sorted(
            (u.key, n, u.started) for n, u in self.shelf.uploads.items() if u.bucket == asked.bucket
        )
        encode = quote if asked.query.get("encoding-type") == "url" else str
        rows = (
            _tag("Upload", _t("Key", encode(k)), _t("UploadId", n), _t("Initiated", _iso(s)))
            for k, n, s in found
            if k.startswith(asked.query.get("prefix", ""))
        )
        encoding = [_t("EncodingType", "url")] if encode is quote else []
        return _xml(
            "ListMultipartUploadsResult",
            _t("Bucket", asked.bucket),
            _t("IsTruncated", "false"),
            *encoding,
            *rows,
        )


@dataclass
class _Asked:
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


def _kind(request: web.BaseRequest, bucket: str, key: str, query: dict[str, str]) -> str:
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


def _body(request: web.BaseRequest, body: bytes) -> bytes:
    """The payload as it was meant, checked against its signed hash; chunked framing with trailers
    taken off.
    """
    told = request.headers.get("x-amz-content-sha256", "")
    if told.startswith("STREAMING-"):
        out, rest = b"", body
        while rest:
            head, _, rest = rest.partition(b"\r\n")
            size = int(head.partition(b";")[0] or b"0", 16)
            if size == 0:
                break
            out, rest = out + rest[:size], rest[size + 2 :]
        return out
    if re.fullmatch("[0-9a-f]{64}", told) and hashlib.sha256(body).hexdigest() != told:
        raise Fault("XAmzContentSHA256Mismatch")
    return body


def _check_body(request: web.BaseRequest, body: bytes, only: str = "") -> dict[str, str]:
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


def _check_read(request: web.BaseRequest, thing: Thing) -> None:
    wanted, unwanted = request.headers.get("If-Match"), request.headers.get("If-None-Match")
    if wanted and wanted.strip('"') != thing.etag:
        raise Fault("PreconditionFailed")
    if unwanted and unwanted.strip('"') == thing.etag:
        raise Fault("NotModified")


def _kept(request: web.BaseRequest) -> dict[str, str]:
    found = {k.lower(): v for k, v in request.headers.items()}
    return {k: v for k, v in found.items() if k.startswith("x-amz-meta-") or k in KEPT}


def _shown(headers: dict[str, str]) -> dict[str, str]:
    """As they are given back: of tags only their number."""
    tags = headers.pop("x-amz-tagging", "")
    return headers | ({"x-amz-tagging-count": str(tags.count("="))} if tags else {})


def _headers(request: web.BaseRequest, thing: Thing, *, tells: bool = True) -> dict[str, str]:
    shown = (
        request.headers.get("x-amz-checksum-mode") == "ENABLED"
        and "Range" not in request.headers
        and tells
    )
    headers = {k: v for k, v in thing.headers.items() if shown or k not in CHECKSUMS}
    headers.setdefault("content-type", "binary/octet-stream")
    return (
        _shown(headers)
        | {
            "ETag": f'"{thing.etag}"',
            "Last-Modified": formatdate(thing.modified, usegmt=True),
            "Accept-Ranges": "bytes",
        }
        | _version(thing)
    )


def _version(thing: Thing) -> dict[str, str]:
    return {"x-amz-version-id": thing.version} if thing.version else {}


def _iso(moment: float) -> str:
    return datetime.fromtimestamp(moment, UTC).strftime("%Y-%m-%dT%H:%M:%S.000Z")


def _contents(key: str, thing: Thing) -> str:
    return _tag(
        "Contents",
        _t("Key", key),
        _t("LastModified", _iso(thing.modified)),
        _t("ETag", f'"{thing.etag}"'),
        _t("Size", thing.size),
        _t("StorageClass", "STANDARD"),
    )


def _t(name: str, value: object) -> str:
    return f"<{name}>{escape(str(value), {chr(13): '&#13;'})}</{name}>"


def _tag(name: str, *inner: str) -> str:
    return f"<{name}>{''.join(inner)}</{name}>"


def _xml(root: str, *inner: str) -> web.Response:
    text = (
        f'<?xml version="1.0" encoding="UTF-8"?>\n<{root} '
        f'xmlns="http://s3.amazonaws.com/doc/2006-03-01/">{"".join(inner)}</{root}>'
    )
    return web.Response(body=text.encode(), content_type="application/xml")


def _nodes(body: bytes, wanted: str) -> Iterable[dict[str, str]]:
    try:
        root = ET.fromstring(body)
    except ET.ParseError as exc:
        raise Fault("MalformedXML") from exc
    for node in root.iter():
        if node.tag.rpartition("}")[2] == wanted:
            yield {c.tag.rpartition("}")[2]: c.text or "" for c in node}


def _fault(fault: Fault, bare: bool) -> web.Response:
    told = _t("Region", fault.region) if fault.code == "AuthorizationHeaderMalformed" else ""
    text = f"<Error>{_t('Code', fault.code)}{_t('Message', fault.code)}{told}</Error>"
    headers = {"Retry-After": "1"} if fault.code == "SlowDown" else {}
    return web.Response(
        status=STATUS.get(fault.code, 400),
        body=b"" if bare else text.encode(),
        content_type="application/xml",
        headers=headers,
    )


async def serve(
    server: BucketServer, port: int = 0, host: str = "127.0.0.1"
) -> tuple[web.ServerRunner, int]:
    """Start listening; gives the runner (to clean up) and the port."""
    runner = web.ServerRunner(web.Server(server.handle), access_log=None, shutdown_timeout=0.1)
    await runner.setup()
    site = web.TCPSite(runner, host, port)
    await site.start()
    return runner, runner.addresses[0][1]
