"""Swift's wire forms as pure functions (OpenStack Object Store API v1)."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple
from urllib.parse import quote

import orjson

from pinecart.core.entries import Entry
from pinecart.core.errors import Busy, Incomplete
from pinecart.core.ports import Version
from pinecart.drivers.bucketed.wire import number, time_ns

SEGMENTS = "_segments"  # what follows a container's name in that of its segments
MANIFEST: list[tuple[str, str | bytes]] = [("multipart-manifest", "put")]
CONTAINER_RULE = "1 to 256 bytes, without a slash, and is not . or .."
LONGEST_CONTAINER = 256
NOTHING = "d41d8cd98f00b204e9800998ecf8427e"  # MD5 of nothing
_LONGEST_IN_SEGMENTS = 900  # of a name that its segments' names begin with
_OURS = re.compile(r"(.*)/pinecart-(\d{13})-([0-9a-f]{8})/(\d{8})", re.DOTALL)


def is_container_name(text: str) -> bool:
    length = len(text.encode())
    return 0 < length <= LONGEST_CONTAINER and "/" not in text and text not in (".", "..")


class SwiftPage(NamedTuple):
    """last: where to go on after; empty: there was nothing any more."""

    entries: list[Entry]
    folders: list[bytes]
    last: bytes


def read_rows(body: bytes) -> list[dict[str, Any]]:
    """Raises Busy for what was cut or garbled."""
    try:
        rows = orjson.loads(body) if body else []
    except orjson.JSONDecodeError as exc:
        raise Busy(f"The store's answer was cut or is no JSON ({exc}).", code="store.cut") from exc
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise Busy("The store's answer is no list.", code="store.garbled")
    return rows


def parse_page(body: bytes, *, prefix: bytes) -> SwiftPage:
    """Keys relative to `prefix`. Raises Incomplete."""
    entries = list[Entry]()
    folders = list[bytes]()
    last = b""
    skip = len(prefix)
    for row in read_rows(body):
        name = str(row.get("subdir") or row.get("name") or "").encode()
        if not name.startswith(prefix):
            raise Incomplete(f"The store listed {name!r}, which was not asked for.")
        last = name
        if "subdir" in row:
            folders.append(name[skip:])
        else:
            entries.append(_entry(row, name[skip:]))
    return SwiftPage(entries, folders, last)


def _entry(row: Mapping[str, Any], key: bytes) -> Entry:
    etag = str(row.get("slo_etag") or row.get("hash") or "").strip('"')
    return Entry(key, _size(row), time_ns(row.get("last_modified")), etag)


def is_mistold(entry: Entry) -> bool:
    """Whether a listing tells of its manifest what is to be told of a large object: some stores
    do, and tell the MD5 of nothing of what isn't empty.
    """
    return entry.size > 0 and entry.etag == NOTHING


def _size(row: Mapping[str, Any]) -> int:
    return number(str(row.get("bytes", 0)), "size")


def parse_versions(body: bytes, key: bytes) -> list[Version]:
    """Of exactly this key, the newest first; a row that only marks a removal says so. What was
    there before versions were kept has no number, and is left out.
    """
    found = []
    for row in read_rows(body):
        if str(row.get("name", "")).encode() == key and row.get("version_id") not in (None, "null"):
            etag = str(row.get("slo_etag") or row.get("hash") or "").strip('"')
            removal = row.get("content_type") == "application/x-deleted;swift_versions_deleted=1"
            found.append(
                Version(
                    str(row["version_id"]),
                    _size(row),
                    time_ns(row.get("last_modified")),
                    row.get("is_latest") is True,
                    removal,
                    etag,
                )
            )
    return found


# --- large objects, as static segments


class Segment(NamedTuple):
    """path: container and name.   etag: its MD5."""

    path: bytes
    etag: str
    size: int


def segments_start(name: bytes, upload: str = "") -> bytes:
    """What the names of an object's segments begin with: all of ours, or those of one upload."""
    first = name if len(name) <= _LONGEST_IN_SEGMENTS else hashlib.sha256(name).hexdigest().encode()
    return first + b"/pinecart-" + (f"{upload}/".encode() if upload else b"")


def segment_name(name: bytes, upload: str, number: int) -> bytes:
    return segments_start(name, upload) + f"{number:08}".encode()


def segment_told(segment: bytes, name: bytes) -> tuple[str, int] | None:
    """Upload and number of a segment of ours of just this object."""
    if not segment.startswith(segments_start(name)):
        return None
    text = segment.decode("utf-8", "replace")
    found = _OURS.fullmatch(text)
    if found is None:
        return None
    upload = f"{found[2]}-{found[3]}"
    return upload, int(found[4])


def begun_ms(upload: str) -> int:
    return int(upload.partition("-")[0])


def manifest(segments: Sequence[Segment]) -> bytes:
    return orjson.dumps(
        [{"path": f"/{s.path.decode()}", "etag": s.etag, "size_bytes": s.size} for s in segments]
    )


def parse_manifest(body: bytes) -> list[Segment]:
    return [
        Segment(
            str(row.get("name", "")).lstrip("/").encode(),
            str(row.get("hash") or ""),
            _size(row),
        )
        for row in read_rows(body)
    ]


def etag_of_segments(etags: Sequence[str]) -> str:
    """Of the whole (Static Large Objects)."""
    return hashlib.md5("".join(etags).encode(), usedforsecurity=False).hexdigest()


def encoded(container: str, name: bytes) -> str:
    """A container, or an object in it, as a header or an address has it: every byte but the
    unreserved and `/` percent-encoded.
    """
    told = f"/{quote(container, safe='-_.~')}"
    if name:
        return f"{told}/{quote(name, safe='/-_.~')}"
    return told
