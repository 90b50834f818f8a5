"""A small Swift of the tests' own, with the ways of a gateway to another storage: it takes no
notice of the conditions of writes; what large objects are made of is told to nobody, and where it
lists, it tells of their manifests; If-Match is held against the ETag of nothing there; a copy loses
its expiry. It lets everybody in. joins: whether it makes objects of segments at all; else it stores
what was to tell of them.
"""

from __future__ import annotations

import hashlib
import json
import threading
from dataclasses import dataclass, field
from email.utils import formatdate
from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit

from tests.servers.small_server import SmallHandler, SmallServer

KEPT = ("x-object-meta-", "x-delete-at", "content-type")


@dataclass
class Thing:
    """parts: names of what a large object is made of."""

    body: bytes
    etag: str
    kept: dict[str, str] = field(default_factory=dict)
    parts: tuple[str, ...] = ()


class SwiftGateway(SmallServer):
    def __init__(self) -> None:
        self.things: dict[str, Thing] = {}  # by container and name
        self.joins = True
        self.lock = threading.Lock()

    def spec(self, root: str = "") -> dict[str, object]:
        who = {"user": "larkfell:swift", "key": "made-up"}
        return {"kind": "swift", "auth_url": f"{self.url}/auth/v1.0", "root": root} | who

    def bytes_of(self, key: str) -> bytes:
        thing = self.things[key]
        if thing.parts:
            return b"".join(self.things[part].body for part in thing.parts)
        return thing.body

    def names(self, container: str) -> list[str]:
        start = f"{container}/"
        found = sorted(key for key in self.things if key.startswith(start))
        return [key.removeprefix(start) for key in found]

    def listing(self, container: str, asked: dict[str, str]) -> list[dict[str, Any]]:
        prefix, marker = asked.get("prefix", ""), asked.get("marker", "")
        rows: dict[str, dict[str, Any]] = {}
        for name in sorted(self.names(container), key=str.encode):
            inner = name.removeprefix(prefix).partition("/")
            if not name.startswith(prefix) or name.encode() <= marker.encode():
                continue
            if asked.get("delimiter") and inner[1]:
                folder = f"{prefix}{inner[0]}/"
                rows[folder] = {"subdir": folder}
                continue
            thing = self.things[f"{container}/{name}"]
            told = {"hash": _md5(b"") if thing.parts else thing.etag, "bytes": len(thing.body)}
            rows[name] = {"name": name, "last_modified": "2026-12-01T19:04:00.299Z"} | told
        return list(rows.values())[: int(asked.get("limit", "10000"))]


def _md5(body: bytes) -> str:
    return hashlib.md5(body, usedforsecurity=False).hexdigest()


class _Handler(SmallHandler):
    storage: SwiftGateway

    def _any(self) -> None:
        body = self.all_of_it()
        url = urlsplit(self.path)
        asked = {k: v[0] for k, v in parse_qs(url.query, keep_blank_values=True).items()}
        if url.path == "/auth/v1.0":
            told = {"X-Storage-Url": f"{self.storage.url}/swift/v1", "X-Auth-Token": "made-up"}
            return self.answer(204, told, b"")
        key = unquote(url.path.removeprefix("/swift/v1/"))
        with self.storage.lock:
            answer = self._done(key, asked, body)
        return self.answer(*answer)

    do_GET = do_HEAD = do_PUT = do_DELETE = _any

    def _done(self, key: str, asked: dict[str, str], body: bytes) -> Any:
        storage = self.storage
        container, _, name = key.partition("/")
        if not name:
            listed = storage.listing(container, asked) if self.command == "GET" else ""
            told = json.dumps(listed).encode() if listed else b""
            return {"PUT": 201, "GET": 200}.get(self.command, 204), {}, told
        if self.command == "PUT":
            return self._write(key, asked, body)
        if key not in storage.things:
            return 404, {}, b"NoSuchKey"
        if self.command == "DELETE":
            del storage.things[key]
            return 204, {}, b""
        return self._read(key, asked)

    def _write(self, key: str, asked: dict[str, str], body: bytes) -> Any:
        storage = self.storage
        kept = {k.lower(): v for k, v in self.headers.items() if k.lower().startswith(KEPT)}
        etag, parts = _md5(body), ()
        if "x-copy-from" in self.headers:
            source = unquote(self.headers["x-copy-from"]).lstrip("/")
            body = storage.bytes_of(source)
            etag, kept = _md5(body), kept | storage.things[source].kept
            if "x-delete-at" not in self.headers:
                kept.pop("x-delete-at", None)
        elif asked.get("multipart-manifest") == "put" and storage.joins:
            rows = json.loads(body)
            parts = tuple(row["path"].lstrip("/") for row in rows)
            told = [storage.things[part].etag for part in parts]
            if told != [row["etag"] for row in rows]:
                return 400, {}, b"a part is not as it was told"
            etag = _md5("".join(row["etag"] for row in rows).encode())
        elif self.headers.get("etag", etag) != etag:
            return 422, {}, b""
        storage.things[key] = Thing(body, etag, kept, parts)
        return 201, {"Etag": f'"{etag}"'}, b""

    def _read(self, key: str, asked: dict[str, str]) -> Any:
        thing = self.storage.things[key]
        held = _md5(b"") if thing.parts else thing.etag
        if self.headers.get("If-Match", held).strip('"') != held:
            return 412, {}, b"PreconditionFailed"
        if asked.get("multipart-manifest") == "get":
            return 200, {"Etag": held}, b""
        headers = thing.kept | {"Etag": f'"{thing.etag}"', "Last-Modified": formatdate(usegmt=True)}
        if thing.parts:
            headers |= {"X-Static-Large-Object": "True"}
            headers |= {"X-Object-Meta-Static-Large-Object": "True"}
        whole = self.storage.bytes_of(key)
        if ranged := self.headers.get("Range"):
            first, _, last = ranged.removeprefix("bytes=").partition("-")
            part = whole[int(first) : int(last) + 1 if last else None]
            headers["Content-Range"] = f"bytes {ranged.removeprefix('bytes=')}/{len(whole)}"
            return 206, headers, part
        return 200, headers, whole


SwiftGateway.handler = _Handler
