"""A small S3-compatible server over one Shelf: what the protocol's documents say, for the
operations Pine Cart needs.

It counts requests by kind, and can be told to delay, fail or pace them: `behaviour`, or POST
/_standin/behaviour.
"""

from __future__ import annotations

import asyncio
import hashlib
import re
import secrets
import time
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email.utils import formatdate
from functools import partial
from typing import Any
from urllib.parse import parse_qsl, unquote, unquote_to_bytes

from aiohttp import web

from pinecart.standins.bucket_behaviour import Account, Behaviour
from pinecart.standins.bucket_listing import list_objects, list_uploads, list_versions
from pinecart.standins.bucket_request import (
    CHECKSUMS,
    Asked,
    check_body,
    check_read,
    headers_of,
    kept_headers,
    kind_of,
    payload_of,
    query_of,
    range_of,
    version_header,
)
from pinecart.standins.bucket_shelf import Shelf, Thing
from pinecart.standins.bucket_sign import Denied, who_signed
from pinecart.standins.bucket_xml import (
    Fault,
    document,
    error_answer,
    iso,
    leaf,
    nodes,
    tag,
)

GO_ON = {  # what asks for a page that is not the first
    "continuation-token",
    "key-marker",
    "upload-id-marker",
    "version-id-marker",
    "part-number-marker",
}
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


@dataclass
class BucketServer:
    """old: ways of older or careless servers, any of OLD_WAYS.   most_keys: on a page of a
    listing.
    """

    accounts: dict[str, Account]
    shelf: Shelf = field(default_factory=Shelf)
    region: str = "us-east-1"
    open_to_all: bool = False
    old: frozenset[str] = frozenset()
    most_keys: int = 1000
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
        path, _, asked_for = raw.partition("?")
        place = unquote_to_bytes(self._in_host(request) + path[1:])
        bucket, _, key = place.decode().partition("/")
        query = query_of(asked_for)
        if "listing-in-circles" in self.old:
            query = {name: value for name, value in query.items() if name not in GO_ON}
        kind = kind_of(request, bucket, key, query)
        if request.headers.get("Expect", "").lower() == "100-continue" and request.transport:
            request.transport.write(b"HTTP/1.1 100 Continue\r\n\r\n")
        body = b"".join([c async for c in request.content.iter_chunked(1 << 20)])
        self.counts[kind] += 1
        try:
            account = self._sign_in(request, raw)
            told = await self._behave(kind, key)
            if kind in WRITES and not account.may_write:
                raise Fault("AccessDenied")
            asked = Asked(bucket, key, query, payload_of(request, body))
            answer = self._answer(kind, request, asked)
            if kind == "list" and "listing-cut" in self.old and isinstance(answer.body, bytes):
                answer.body = answer.body[: len(answer.body) // 2]
            if told and told.lost:
                assert request.transport
                request.transport.close()
            return answer
        except Fault as fault:
            return error_answer(fault, request.method == "HEAD")

    def _in_host(self, request: web.BaseRequest) -> str:
        """The bucket, where it is named in front of the host: `larkfell.localhost`."""
        name, dot, rest = request.headers.get("Host", "").partition(".")
        if dot and rest.startswith("localhost"):
            return f"{name}/"
        return ""

    def _sign_in(self, request: web.BaseRequest, raw: str) -> Account:
        known = {k: a.secret for k, a in self.accounts.items()}
        try:
            is_signed = "Authorization" in request.headers or "X-Amz-Signature" in raw
            if self.open_to_all and not is_signed:
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
        """How the tests set its behaviour, and ask how many requests of each kind have come."""
        if request.method == "POST":
            told = await request.json()
            self.behaviour.clear()
            for kind, fields in told.items():
                self.behaviour[kind] = Behaviour(**fields)
        counts = dict(self.counts)
        return web.json_response({"counts": counts})

    # --- operations

    def _answer(self, kind: str, request: web.BaseRequest, asked: Asked) -> web.Response:
        if kind == "list-buckets":
            names = sorted(self.shelf.buckets)
            buckets = [tag("Bucket", leaf("Name", name)) for name in names]
            return document("ListAllMyBucketsResult", tag("Buckets", *buckets))
        if kind == "make-bucket":
            return self._make_bucket(asked.bucket)
        if asked.bucket in self.taken:
            raise Fault("AccessDenied")
        if asked.bucket not in self.shelf.buckets:
            raise Fault("NoSuchBucket")
        name = "_" + kind.replace("-", "_")
        call: Callable[[web.BaseRequest, Asked], web.Response] = getattr(self, name)
        return call(request, asked)

    def _make_bucket(self, bucket: str) -> web.Response:
        """Raises InvalidBucketName, and tells a name that is somebody else's from one that is the
        asker's already.
        """
        if not re.fullmatch(r"[a-z0-9][a-z0-9.-]{1,61}[a-z0-9]", bucket):
            raise Fault("InvalidBucketName")
        if bucket in self.taken:
            raise Fault("BucketAlreadyExists")
        if bucket in self.shelf.buckets:
            raise Fault("BucketAlreadyOwnedByYou")
        self.shelf.make(bucket)
        return web.Response(headers={"Location": f"/{bucket}"})

    def _head_bucket(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        return web.Response(headers={"x-amz-bucket-region": self.region})

    def _drop_bucket(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        """Only an empty one. Raises BucketNotEmpty."""
        if self.shelf.buckets[asked.bucket]:
            raise Fault("BucketNotEmpty")
        self.shelf.drop(asked.bucket)
        return web.Response(status=204)

    def _list(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        return list_objects(self.shelf, asked, self.old, self.most_keys)

    def _list_versions(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        return list_versions(self.shelf, asked, self.most_keys)

    def _thing(self, asked: Asked) -> Thing:
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

    def _versioning(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        keeps = asked.bucket in self.shelf.versioned
        return document("VersioningConfiguration", *([leaf("Status", "Enabled")] if keeps else []))

    def _keep_versions(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        """From now on, or no longer: what was kept so far stays either way."""
        self.shelf.versioned.discard(asked.bucket)
        for node in nodes(asked.body, "VersioningConfiguration"):
            if node.get("Status") == "Enabled":
                self.shelf.versioned.add(asked.bucket)
        return web.Response()

    def _head(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        """As reading would answer, without the bytes: the length that is told is the object's."""
        thing = self._thing(asked)
        check_read(request, thing)
        headers = headers_of(request, thing, tells=self._tells_checksums)
        headers["Content-Length"] = str(thing.size)
        return web.Response(headers=headers)

    def _get(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        thing = self._thing(asked)
        check_read(request, thing)
        body = partial(self.shelf.body, asked.bucket, asked.key, thing)
        headers = headers_of(request, thing, tells=self._tells_checksums)
        ranged = request.headers.get("Range", "")
        wanted = re.fullmatch(r"bytes=(\d*)-(\d*)", ranged)
        if not wanted:
            whole = body()
            return web.Response(body=whole, headers=headers)
        size = thing.size
        start, end = range_of(wanted, size)
        piece = body(start, end + 1)
        headers["Content-Range"] = f"bytes {start}-{end}/{size}"
        return web.Response(status=206, body=piece, headers=headers)

    @property
    def _tells_checksums(self) -> bool:
        return "checksums-untold" not in self.old

    def _etag(self) -> str:
        """Another ETag than the MD5; empty: the MD5."""
        if "etags-opaque" in self.old:
            return secrets.token_hex(16)
        return ""

    def _tags(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        """The object's tags as a document; they were given in one header, written as a query."""
        tags = parse_qsl(
            self._thing(asked).headers.get("x-amz-tagging", ""), keep_blank_values=True
        )
        return document(
            "Tagging",
            tag("TagSet", *(tag("Tag", leaf("Key", k), leaf("Value", v)) for k, v in tags)),
        )

    def _put(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        self._check_write(request, asked)
        found = {}
        if "checksums-ignored" not in self.old:
            found = check_body(request, asked.body)
        kept = kept_headers(request) | found
        thing = self.shelf.put(asked.bucket, asked.key, asked.body, kept, self._etag())
        headers = found | version_header(thing)
        if "puts-tell-no-etag" not in self.old:
            headers["ETag"] = f'"{thing.etag}"'
        return web.Response(headers=headers)

    def _check_write(self, request: web.BaseRequest, asked: Asked) -> None:
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
        wanted = "" if "if-match-unknown" in self.old else request.headers.get("If-Match")
        if wanted and there is None:
            raise Fault("NoSuchKey")
        is_met = there and wanted and wanted.strip('"') == there.etag
        if wanted and (not is_met or "conditions-of-another-etag" in self.old):
            raise Fault("PreconditionFailed")

    def _check_other_write(self, request: web.BaseRequest, asked: Asked) -> None:
        """Than a plain one."""
        if "conditions-of-writes-alone" not in self.old:
            self._check_write(request, asked)

    def _copy_source(self, request: web.BaseRequest) -> tuple[str, str, Thing]:
        """Bucket, key and what lies there."""
        told = request.headers["x-amz-copy-source"]
        named, _, version = told.removeprefix("/").partition("?versionId=")
        bucket, _, key = unquote(named).partition("/")
        if bucket not in self.shelf.buckets:
            raise Fault("NoSuchBucket")
        query = {"versionId": version} if version else {}
        asked = Asked(bucket, key, query, b"")
        source = self._thing(asked)
        wanted = request.headers.get("x-amz-copy-source-if-match", "")
        if "conditions-of-writes-alone" in self.old:
            wanted = ""
        if wanted and wanted.strip('"') != source.etag:
            raise Fault("PreconditionFailed")
        return bucket, key, source

    def _copy(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        self._check_other_write(request, asked)
        bucket, key, source = self._copy_source(request)
        headers = dict(source.headers)
        is_anew = request.headers.get("x-amz-metadata-directive") == "REPLACE"
        if is_anew:
            sums = {k: v for k, v in source.headers.items() if k in CHECKSUMS}
            headers = kept_headers(request) | sums
        tier = request.headers.get("x-amz-storage-class")
        if tier is not None:
            headers["x-amz-storage-class"] = tier
        if "copies-garble-tags" in self.old and not is_anew:
            headers.pop("x-amz-tagging", None)
        body = self.shelf.body(bucket, key, source)
        thing = self.shelf.put(asked.bucket, asked.key, body, headers, self._etag())
        told = [leaf("ETag", f'"{thing.etag}"'), leaf("LastModified", iso(thing.modified))]
        crc = headers.get("x-amz-checksum-crc64nvme", "")
        if crc and self._tells_checksums:
            told.append(leaf("ChecksumCRC64NVME", crc))
        return document("CopyObjectResult", *told)

    def _delete(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        if request.headers.get("If-Match"):
            self._check_write(request, asked)
        version = asked.query.get("versionId", "")
        self.shelf.delete(asked.bucket, asked.key, version)
        return web.Response(status=204)

    def _bulk_delete(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        """Each key of the document. One that isn't there counts as deleted, which is how the
        protocol has it.
        """
        check_body(request, asked.body)
        rows = []
        for node in nodes(asked.body, "Object"):
            key = node["Key"]
            self.shelf.delete(asked.bucket, key)
            rows.append(tag("Deleted", leaf("Key", key)))
        return document("DeleteResult", *rows)

    def _start_upload(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        name = self.shelf.start_upload(asked.bucket, asked.key, kept_headers(request))
        return document(
            "InitiateMultipartUploadResult",
            leaf("Bucket", asked.bucket),
            leaf("Key", asked.key),
            leaf("UploadId", name),
        )

    def _upload(self, asked: Asked) -> Any:
        """The upload that a request names. Raises NoSuchUpload, also where its number is that of
        another key.
        """
        number = asked.query.get("uploadId", "")
        upload = self.shelf.uploads.get(number)
        if upload is None or (upload.bucket, upload.key) != (asked.bucket, asked.key):
            raise Fault("NoSuchUpload")
        return upload

    def _part(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        if "x-amz-copy-source" in request.headers:
            return self._part_copied(request, asked)
        upload = self._upload(asked)
        body = asked.body
        number = int(asked.query["partNumber"])
        found = check_body(request, body)
        etag = hashlib.md5(body).hexdigest()
        upload.parts[number] = (etag, body, found)
        headers = {"ETag": f'"{etag}"', **found}
        return web.Response(headers=headers)

    def _part_copied(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        bucket, key, source = self._copy_source(request)
        upload = self._upload(asked)
        number = int(asked.query["partNumber"])
        all_of_it = f"0-{source.size - 1}"
        ranged = request.headers.get("x-amz-copy-source-range", all_of_it)
        first, last = map(int, re.findall(r"\d+", ranged))
        body = self.shelf.body(bucket, key, source, first, last + 1)
        etag = hashlib.md5(body).hexdigest()
        upload.parts[number] = (etag, body, {})
        told = leaf("ETag", f'"{etag}"')
        return document("CopyPartResult", told)

    def _list_parts(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        after = int(asked.query.get("part-number-marker", 0))
        parts = sorted(self._upload(asked).parts.items())
        left = [(n, etag, len(body)) for n, (etag, body, _) in parts if n > after]
        page = left[: self.most_keys]
        more = len(left) > len(page)
        told = [
            leaf("UploadId", asked.query["uploadId"]),
            leaf("IsTruncated", str(more).lower()),
        ]
        if more:
            told.append(leaf("NextPartNumberMarker", page[-1][0]))
        for n, etag, size in page:
            told.append(
                tag("Part", leaf("PartNumber", n), leaf("ETag", f'"{etag}"'), leaf("Size", size))
            )
        return document("ListPartsResult", *told)

    def _complete(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        upload = self._upload(asked)
        self._check_other_write(request, asked)
        etags = []
        pieces = []
        for node in nodes(asked.body, "Part"):
            number = int(node["PartNumber"])
            etag, piece, _ = upload.parts.get(number, ("", b"", {}))
            if not etag or node["ETag"].strip('"') != etag:
                raise Fault("InvalidPart")
            etags.append(bytes.fromhex(etag))
            pieces.append(piece)
        if not pieces:
            raise Fault("InvalidPart")
        body = b"".join(pieces)
        found = check_body(request, body, only="x-amz-checksum-crc64nvme")
        of_parts = hashlib.md5(b"".join(etags)).hexdigest()
        etag = self._etag() or of_parts
        etag += f"-{len(etags)}"
        self.shelf.put(asked.bucket, asked.key, body, upload.headers | found, etag)
        del self.shelf.uploads[asked.query["uploadId"]]
        return document(
            "CompleteMultipartUploadResult", leaf("Key", asked.key), leaf("ETag", f'"{etag}"')
        )

    def _abort(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        self._upload(asked)
        del self.shelf.uploads[asked.query["uploadId"]]
        return web.Response(status=204)

    def _list_uploads(self, request: web.BaseRequest, asked: Asked) -> web.Response:
        return list_uploads(self.shelf, asked, self.most_keys)


async def serve(
    server: BucketServer, port: int = 0, host: str = "127.0.0.1"
) -> tuple[web.ServerRunner, int]:
    """Start listening; gives the runner (to clean up) and the port."""
    runner = web.ServerRunner(web.Server(server.handle), access_log=None, shutdown_timeout=0.1)
    await runner.setup()
    site = web.TCPSite(runner, host, port)
    await site.start()
    return runner, runner.addresses[0][1]
