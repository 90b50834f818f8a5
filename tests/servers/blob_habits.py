"""A small blob storage of the tests' own, for habits that Azurite doesn't have: another checksum,
no conditions, versions, copies that take their time, leases, cut lines. It lets everybody in.
"""

from __future__ import annotations

import base64
import hashlib
import threading
from collections import Counter
from dataclasses import dataclass, field
from email.utils import formatdate
from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit
from xml.sax.saxutils import escape

from pinecart.core.checksum import crc_of
from tests.servers.small_server import SmallHandler, SmallServer

KEPT = ("x-ms-meta-", "x-ms-blob-", "x-ms-tags", "x-ms-access-tier")


@dataclass
class Blob:
    body: bytes
    etag: str
    kept: dict[str, str]
    version: str = ""


@dataclass
class Habits:
    """cuts: operation → which time from now on the line is cut just after it was done."""

    verifies: str = "crc64"
    holds_conditions: bool = True
    versions: bool = False
    page: int = 5000
    circles: bool = False
    polls: int = 0  # that a copy is pending for
    copy_fails: bool = False
    refuses: dict[str, tuple[int, str]] = field(default_factory=dict)  # key → status, code
    cuts: Counter[str] = field(default_factory=Counter)
    asked: Counter[str] = field(default_factory=Counter)


class BlobHabits(SmallServer):
    def __init__(self, **habits: Any) -> None:
        self.habits = Habits(**habits)
        self.blobs: dict[str, Blob] = {}
        self.older: dict[str, list[Blob]] = {}
        self.blocks: dict[str, dict[str, bytes]] = {}
        self.pending: Counter[str] = Counter()
        self.copies: dict[str, tuple[str, str, bytes]] = {}  # key → id, how it ends, what comes
        self.lock, self.count = threading.Lock(), 0

    def spec(self, root: str = "larkfell-files") -> dict[str, object]:
        return {"kind": "blob", "endpoint": f"{self.url}/larkfell", "root": root}

    def store(self, key: str, body: bytes, kept: dict[str, str]) -> Blob:
        self.count += 1
        version = f"{self.count:08}" if self.habits.versions else ""
        if self.habits.versions and key in self.blobs:
            self.older.setdefault(key, []).append(self.blobs[key])
        self.blobs[key] = Blob(body, f"0x{self.count:X}", kept, version)
        self.blocks.pop(key, None)
        return self.blobs[key]

    def listing(self, asked: dict[str, str]) -> bytes:
        prefix, marker = asked.get("prefix", ""), asked.get("marker", "")
        names = sorted(self.blobs, key=lambda name: name.encode("utf-16-be"))
        rows = [(n, self.blobs[n], True) for n in names if n.startswith(prefix)]
        if "versions" in asked.get("include", ""):
            rows += [
                (n, old, False)
                for n, all_of in self.older.items()
                if n.startswith(prefix)
                for old in all_of
            ]
        if asked.get("delimiter"):
            rows = _gathered(rows, len(prefix))
        start = int(marker or 0)
        page = min(int(asked.get("maxresults", "5000")), self.habits.page)
        more = str(start + page) if start + page < len(rows) else ""
        if self.habits.circles and more:
            more = str(page)
        inner = "".join(_row(*row) for row in rows[start : start + page])
        return (
            f"<EnumerationResults><Blobs>{inner}</Blobs><NextMarker>{more}</NextMarker>"
            "</EnumerationResults>"
        ).encode()


def _gathered(rows: list[Any], skip: int) -> list[Any]:
    """Folders, each once, and what lies beside them."""
    found: dict[str, Any] = {}
    for name, blob, is_current in rows:
        first, slash, _ = name[skip:].partition("/")
        key = name[:skip] + first + slash
        found[key] = (key, None if slash else blob, is_current)
    return list(found.values())


def _row(name: str, blob: Blob | None, is_current: bool) -> str:
    if blob is None:
        return f"<BlobPrefix><Name>{escape(name)}</Name></BlobPrefix>"
    version = f"<VersionId>{blob.version}</VersionId>" if blob.version else ""
    current = "<IsCurrentVersion>true</IsCurrentVersion>" if version and is_current else ""
    odd = "\x01" in name
    told = name.replace("%", "%25").replace("\x01", "%01") if odd else name
    encoded = ' Encoded="true"' if odd else ""
    return (
        f"<Blob><Name{encoded}>{escape(told)}</Name>{version}{current}<Properties>"
        f"<Last-Modified>{formatdate(1_700_000_000, usegmt=True)}</Last-Modified>"
        f"<Etag>{blob.etag}</Etag><Content-Length>{len(blob.body)}</Content-Length>"
        "</Properties></Blob>"
    )


class _Handler(SmallHandler):
    storage: BlobHabits

    def _any(self) -> None:
        body = self.all_of_it()
        url = urlsplit(self.path)
        asked = {k: v[0] for k, v in parse_qs(url.query, keep_blank_values=True).items()}
        key = unquote(url.path).removeprefix("/larkfell").partition("/")[2].partition("/")[2]
        with self.storage.lock:
            name, answer = self._done(key, asked, body)
            self.storage.habits.asked[name] += 1
            left = self.storage.habits.cuts[name]
            self.storage.habits.cuts[name] = max(left - 1, 0)
        if left == 1:
            self.close_connection = True
            return
        self.answer(*answer)

    do_GET = do_HEAD = do_PUT = do_DELETE = _any

    def _done(self, key: str, asked: dict[str, str], body: bytes) -> tuple[str, Any]:
        storage, habits = self.storage, self.storage.habits
        comp = asked.get("comp", "")
        name = f"{self.command} {comp}".strip()
        if key in habits.refuses and self.command != "HEAD":
            status, code = habits.refuses[key]
            return name, _refusal(status, code)
        if comp == "list":
            return name, (200, {}, storage.listing(asked))
        if comp == "block":
            return name, self._block(key, asked["blockid"], body)
        if comp == "blocklist" and self.command == "GET":
            blocks = storage.blocks.get(key)
            if blocks is None and key not in storage.blobs:
                return name, _refusal(404, "BlobNotFound")
            rows = "".join(
                f"<Block><Name>{n}</Name><Size>{len(b)}</Size></Block>"
                for n, b in (blocks or {}).items()
            )
            told = f"<BlockList><UncommittedBlocks>{rows}</UncommittedBlocks></BlockList>"
            return name, (200, {}, told.encode())
        if self.command in ("GET", "HEAD"):
            return name, self._read(key, asked.get("versionid", ""))
        if refused := self._not_as_asked(key):
            return name, refused
        if self.command == "DELETE":
            if asked.get("versionid"):
                kept = [b for b in storage.older.get(key, []) if b.version != asked["versionid"]]
                storage.older[key] = kept
                return name, (202, {}, b"")
            blob = storage.blobs.pop(key, None)
            if blob and habits.versions:
                storage.older.setdefault(key, []).append(blob)
            return name, (202, {}, b"") if blob else _refusal(404, "BlobNotFound")
        return name, self._write(key, asked, body)

    def _not_as_asked(self, key: str) -> Any:
        there = self.storage.blobs.get(key)
        if self.command == "DELETE" and there is None:
            return _refusal(404, "BlobNotFound")
        if not self.storage.habits.holds_conditions:
            return None
        if (wanted := self.headers.get("If-Match")) and not (
            there and there.etag == wanted.strip('"')
        ):
            return _refusal(412, "ConditionNotMet")
        if self.headers.get("If-None-Match") and there:
            return _refusal(409, "BlobAlreadyExists")
        return None

    def _sum_is_wrong(self, body: bytes) -> Any:
        crc, md5 = self.headers.get("x-ms-content-crc64"), self.headers.get("Content-MD5")
        right = base64.b64encode(base64.b64decode(crc_of(body))[::-1]).decode()
        verifies = self.storage.habits.verifies
        if verifies == "crc64" and crc and crc != right:
            return _refusal(400, "Crc64Mismatch")
        told = base64.b64encode(hashlib.md5(body).digest()).decode()
        if verifies == "md5" and md5 and md5 != told:
            return _refusal(400, "Md5Mismatch")
        return None

    def _block(self, key: str, block: str, body: bytes) -> Any:
        there = self.storage.blocks.setdefault(key, {})
        if any(len(other) != len(block) for other in there):
            return _refusal(400, "InvalidBlobOrBlock")
        if wrong := self._sum_is_wrong(body):
            return wrong
        there[block] = body
        return 201, {}, b""

    def _write(self, key: str, asked: dict[str, str], body: bytes) -> Any:
        storage, comp = self.storage, asked.get("comp", "")
        kept = {k.lower(): v for k, v in self.headers.items() if k.lower().startswith(KEPT)}
        if comp == "copy":
            storage.pending[key] = -1
            storage.copies[key] = (asked["copyid"], "aborted", b"")
            return 204, {}, b""
        if source := self.headers.get("x-ms-copy-source"):
            return self._copied(key, unquote(urlsplit(source).path))
        if comp == "blocklist":
            names = [n.partition("</")[0] for n in body.decode().split("<Latest>")[1:]]
            there = storage.blocks.get(key, {})
            if not all(name in there for name in names):
                return _refusal(400, "InvalidBlockList")
            body = b"".join(there[name] for name in names)
        elif wrong := self._sum_is_wrong(body):
            return wrong
        blob = storage.store(key, body, kept)
        version = {"x-ms-version-id": blob.version} if blob.version else {}
        return 201, {"ETag": f'"{blob.etag}"', **version}, b""

    def _copied(self, key: str, path: str) -> Any:
        storage, habits = self.storage, self.storage.habits
        source = storage.blobs[path.removeprefix("/larkfell/").partition("/")[2]]
        if self.headers["x-ms-source-if-match"].strip('"') != source.etag:
            return _refusal(412, "SourceConditionNotMet")
        blob = storage.store(key, b"" if habits.polls else source.body, source.kept)
        storage.pending[key] = habits.polls
        ends = "failed" if habits.copy_fails else "success"
        storage.copies[key] = (blob.etag, ends, source.body)
        told = {"ETag": f'"{blob.etag}"', "x-ms-copy-id": blob.etag}
        return 202, told | {"x-ms-copy-status": "pending" if habits.polls else "success"}, b""

    def _read(self, key: str, version: str) -> Any:
        storage = self.storage
        older = storage.older.get(key, [])
        blob = storage.blobs.get(key)
        if version:
            blob = next(
                (b for b in [*older, *([blob] if blob else [])] if b.version == version), None
            )
        if blob is None:
            return _refusal(404, "BlobNotFound")
        if (wanted := self.headers.get("If-Match")) and wanted.strip('"') != blob.etag:
            return _refusal(412, "ConditionNotMet")
        headers = {"ETag": f'"{blob.etag}"', "Last-Modified": formatdate(usegmt=True)}
        headers |= {k.removeprefix("x-ms-blob-"): v for k, v in blob.kept.items()}
        if key in storage.pending:
            storage.pending[key] -= self.command == "HEAD"
            headers["x-ms-copy-id"], ends, body = storage.copies[key]
            headers["x-ms-copy-status"] = "pending" if storage.pending[key] >= 0 else ends
            if storage.pending[key] < 0 and ends == "success":
                blob.body = body
        if blob.version:
            headers["x-ms-version-id"] = blob.version
        body, status = blob.body, 200
        if asked := self.headers.get("Range"):
            first, _, last = asked.removeprefix("bytes=").partition("-")
            body, status = body[int(first) : int(last) + 1 if last else None], 206
            headers["Content-Range"] = f"bytes {asked.removeprefix('bytes=')}/{len(blob.body)}"
        return status, headers | {"Content-Length": str(len(body))}, body


def _refusal(status: int, code: str) -> Any:
    told = f"<?xml version='1.0'?><Error><Code>{code}</Code><Message>{code}</Message></Error>"
    return status, {"x-ms-error-code": code}, told.encode()


BlobHabits.handler = _Handler
