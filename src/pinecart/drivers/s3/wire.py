"""The S3 protocol's wire forms as pure functions: signature version 4, listings, errors.

Sources: Amazon S3 API reference; "Signature Calculations for the Authorization Header" (AWS
Signature Version 4).
"""

from __future__ import annotations

import hashlib
import itertools
import re
import xml.etree.ElementTree as ET
from collections.abc import Mapping, Sequence
from datetime import datetime
from functools import lru_cache, partial
from typing import NamedTuple
from urllib.parse import unquote_to_bytes
from xml.sax.saxutils import escape

from pinecart.core.entries import Entry
from pinecart.core.errors import (
    Busy,
    Incomplete,
    Refused,
)
from pinecart.core.ports import Version
from pinecart.drivers.bucketed.client import Query
from pinecart.drivers.bucketed.wire import moment_of, number, time_ns
from pinecart.drivers.xml_answers import CONTROLS, local_name, tree_of

# (S3 API, bucket naming rules: those of today, and those of the first years, which old buckets
# still have)
BUCKET_IN_HOST = (
    "3 to 63 small letters, digits, hyphens and single dots, and starts and ends with a letter "
    "or digit"
)
BUCKET_IN_PATH = "255 letters, digits, dots, hyphens and underscores at most, and is not . or .."
_IN_HOST = re.compile(
    r"(?=.{3,63}\Z)[a-z0-9]([a-z0-9-]*[a-z0-9])?(\.[a-z0-9]([a-z0-9-]*[a-z0-9])?)*"
)
_IN_PATH = re.compile(r"(?!\.{1,2}\Z)[A-Za-z0-9._-]{1,255}")


@lru_cache(maxsize=1024)
def is_bucket_name(text: str, *, in_host: bool) -> bool:
    """in_host: it becomes part of a host's name, so only what the DNS takes."""
    return bool((_IN_HOST if in_host else _IN_PATH).fullmatch(text))


EMPTY_SHA256 = hashlib.sha256(b"").hexdigest()


def region_told(status: int, headers: Mapping[str, str], body: bytes) -> str:
    """The region that a refusal names as the right one; empty if it names none."""
    if status not in (301, 307, 400):
        return ""
    named = headers.get("x-amz-bucket-region", "")
    if named or not body.lstrip().startswith(b"<"):
        return named
    return text_of(body, "Region")


class ListingPage(NamedTuple):
    """One page of a listing. token: where to go on; empty at the end.

    marker: instead of a token, the whole key to go on after: the store knows only listing version
    1.
    """

    entries: list[Entry]
    folders: list[bytes]
    token: str
    marker: bytes = b""


def _key(text: str | None, *, encoded: bool) -> bytes:
    """A key out of a listing.

    Some servers encode a blank as `+`; a true `+` always comes as %2B.
    """
    raw = text or ""
    if encoded:
        return unquote_to_bytes(raw.replace("+", " "))
    return raw.encode()


_ROW = re.compile(
    r"<Contents><Key>([^<]*)</Key><LastModified>([^<]*)</LastModified><ETag>(?:&quot;|\")?([^<&\"]*)(?:&quot;|\")?</ETag>"
    r"(?:<Checksum[^>]*>[^<]*</[^>]*>)*<Size>(\d{1,18})</Size>"
)
_ONE = {
    name: re.compile(f"<{name}>([^<]*)</{name}>")
    for name in ("KeyCount", "IsTruncated", "NextContinuationToken", "EncodingType")
}
_new_entry = partial(tuple.__new__, Entry)
_REST = [itertools.repeat(value) for value in Entry(b"", 0, None)[4:]]


def _plain_page(body: bytes, prefix: bytes) -> ListingPage | None:
    """The usual page of files, read by one regular expression at a third of the cost.

    None: anything unusual, for the real parser.
    """
    try:
        text = body.decode("ascii")
    except UnicodeDecodeError:
        return None
    rows = _ROW.findall(text)
    if not rows or text.count("Contents>") != 2 * len(rows):
        return None
    around = text[: text.find("<Contents>")] + text[text.rfind("</Contents>") :]
    if (
        not around.rstrip().endswith("</ListBucketResult>")
        or "<!" in text
        or "<CommonPrefixes>" in around
    ):
        return None
    counts, truncated, tokens, encoding = (p.findall(around) for p in _ONE.values())
    if counts != [str(len(rows))] or encoding != ["url"] or len(tokens) != (truncated == ["true"]):
        return None
    names, times, etags, sizes = zip(*rows, strict=True)
    whole = "\n".join(names)
    if (
        "&" in whole
        or any("&" in t or not t.isprintable() for t in tokens)
        or truncated not in (["true"], ["false"])
    ):
        return None
    skip = len(prefix)
    if "+" in whole or "%" in whole:
        found = [unquote_to_bytes(n.replace("+", " ")) for n in names]
        keys = [k[skip:] for k in found if k.startswith(prefix)]
    else:
        keys = (b"\n" + whole.encode()).split(b"\n" + prefix)[1:]
    if len(keys) != len(rows) or whole.count("\n") != len(rows) - 1:
        return None
    fields = zip(keys, map(int, sizes), map(time_ns, times), etags, *_REST, strict=False)
    return ListingPage(list(map(_new_entry, fields)), [], tokens[0] if tokens else "")


def parse_page(body: bytes, *, prefix: bytes) -> ListingPage:
    """A ListObjectsV2 answer, keys relative to `prefix`.

    Raises Incomplete if it contradicts itself.
    """
    return _plain_page(body, prefix) or _any_page(body, prefix)


# What a listing tells of where it is; some servers write a key's control characters into it, which
# XML can't hold.
_WHERE = re.compile(
    rb"<(NextContinuationToken|ContinuationToken|StartAfter|NextMarker|Marker)>([^<]*)</\1>"
)


def _any_page(body: bytes, prefix: bytes) -> ListingPage:
    around = b""
    try:
        root = tree_of(body)
    except Busy:
        around = _WHERE.sub(b"", body)
        if around == body:
            raise
        root = tree_of(around)
    entries: list[Entry] = []
    folders: list[bytes] = []
    flat: dict[str, str] = {}
    groups = []
    for node in root:
        name = local_name(node.tag)
        if name in ("Contents", "CommonPrefixes"):
            groups.append((name, {local_name(c.tag): c.text for c in node}))
        else:
            flat[name] = node.text or ""
    encoded = flat.get("EncodingType") == "url"
    skip = len(prefix)
    for name, fields in groups:
        if name == "CommonPrefixes":
            folders.append(_key(fields.get("Prefix"), encoded=encoded)[skip:])
            continue
        key = _key(fields.get("Key"), encoded=encoded)
        if not key.startswith(prefix):
            raise Incomplete(f"The store listed {key!r}, which was not asked for.")
        etag = (fields.get("ETag") or "").strip('"')
        entries.append(
            Entry(
                key[skip:],
                number(fields.get("Size"), "size"),
                time_ns(fields.get("LastModified")),
                etag,
            )
        )
    told = flat.get("KeyCount")
    if told and number(told, "count of names") != len(entries) + len(folders):
        raise Incomplete(
            f"The store says that a page has {told} names, and gave {len(entries) + len(folders)}."
        )
    truncated = flat.get("IsTruncated") == "true"
    if truncated and told is None and "NextContinuationToken" not in flat and (entries or folders):
        last = max([e.key for e in entries[-1:]] + folders[-1:])
        return ListingPage(
            entries,
            folders,
            "",
            _key(flat["NextMarker"], encoded=encoded) if flat.get("NextMarker") else prefix + last,
        )
    if truncated and around and (entries or folders):  # its token can't be read: by name
        return ListingPage(
            entries, folders, "", prefix + max([e.key for e in entries[-1:]] + folders[-1:])
        )
    if truncated and not flat.get("NextContinuationToken"):
        raise Incomplete("The store says that its listing goes on, but not where.")
    return ListingPage(entries, folders, flat["NextContinuationToken"] if truncated else "")


def root_of(body: bytes) -> str:
    return _answer(body)[0]


def text_of(body: bytes, name: str) -> str:
    """The text of the first element of that name; empty if there is none."""
    return _answer(body)[1].get(name, "")


# The usual short answer: a root with some texts in it. Anything else is for the real parser.
_FLAT = re.compile(
    rb"\s*(?:<\?xml[^>]*\?>\s*)?<([A-Za-z]+)(?: "
    rb"xmlns=\"[^\"<>&]*\")?>((?:\s*<([A-Za-z0-9]+)>[\x20-\x25\x27-\x3b\x3d-\x7e]*</\3>)*)\s*</\1>\s*"
)
_PAIR = re.compile(rb"<([A-Za-z0-9]+)>([^<]*)</")


@lru_cache(maxsize=8)  # one answer is asked for several things
def _answer(body: bytes) -> tuple[str, dict[str, str]]:
    """The name of the root, and the first text under each name."""
    texts: dict[str, str] = {}
    unquoted = body.replace(b"&quot;", b'"')
    plain = _FLAT.fullmatch(unquoted)
    if plain:
        pairs = _PAIR.findall(plain[2])
        for name, text in pairs:
            texts.setdefault(name.decode(), text.decode())
        return plain[1].decode(), texts
    told = CONTROLS.sub(b"?", body)  # a key is told in it, which is no word of ours
    root = tree_of(told)
    for node in root.iter():
        tag = local_name(node.tag)
        texts.setdefault(tag, node.text or "")
    return local_name(root.tag), texts


def completion(etags: Sequence[str]) -> bytes:
    """The body that makes one object of parts 1, 2, …"""
    parts = []
    for which, etag in enumerate(etags, 1):
        told = escape(etag)
        parts.append(f"<Part><PartNumber>{which}</PartNumber><ETag>{told}</ETag></Part>")
    inner = "".join(parts)
    text = f"<CompleteMultipartUpload>{inner}</CompleteMultipartUpload>"
    return text.encode()


def _texts_in(node: ET.Element) -> dict[str, str]:
    """The text of each child by its name."""
    return {local_name(child.tag): child.text or "" for child in node}


def parse_parts(body: bytes) -> tuple[dict[tuple[int, int], str], str]:
    """(number, size) → ETag of each part, and where to go on (empty: at the end)."""
    root = tree_of(CONTROLS.sub(b"?", body))
    found = {}
    for node in root:
        if local_name(node.tag) != "Part":
            continue
        told = _texts_in(node)
        which = number(told.get("PartNumber"), "part's number")
        size = number(told.get("Size"), "part's size")
        etag = told.get("ETag", "")
        found[which, size] = etag.strip('"')
    told = _texts_in(root)
    following = ""
    if told.get("IsTruncated") == "true":
        following = told.get("NextPartNumberMarker", "")
    return found, following


def _next_page(root: ET.Element, names: Mapping[str, str], *, encoded: bool) -> Query:
    """What to ask the next page with; empty at the end. names: of each mark, as it is told and as
    it is asked. Raises Incomplete.
    """
    told = _texts_in(root)
    if told.get("IsTruncated") != "true":
        return []
    if not told.get("NextKeyMarker"):
        raise Incomplete("The store says that its listing goes on, but not where.")
    key = _key(told["NextKeyMarker"], encoded=encoded)
    marks: Query = [("key-marker", key)]
    for tag, name in names.items():
        if told.get(tag):
            marks.append((name, told[tag]))
    return marks


Begun = tuple[str, bytes, datetime]  # an upload: its id, its key, and when


def parse_uploads(body: bytes) -> tuple[list[Begun], Query]:
    """Unfinished uploads, and what the next page is asked with. Raises
    Refused where their keys can't be read.
    """
    found = []
    readable = CONTROLS.sub(b"?", body)
    root = tree_of(readable)
    encoded = any(local_name(n.tag) == "EncodingType" and n.text == "url" for n in root)
    if readable != body and not encoded:
        raise Refused(
            "The store told of unfinished uploads in a form that can't be read: a key has "
            "control characters."
        )
    for node in [n for n in root if local_name(n.tag) == "Upload"]:
        told = {local_name(n.tag): n.text or "" for n in node}
        at = moment_of(told.get("Initiated", "1970-01-01T00:00:00Z"))
        found.append((told.get("UploadId", ""), _key(told.get("Key"), encoded=encoded), at))
    names = {"NextUploadIdMarker": "upload-id-marker"}
    go_on = _next_page(root, names, encoded=encoded)
    return found, go_on


def parse_versions(body: bytes, key: bytes) -> tuple[list[Version], Query]:
    """Of exactly this key, as listed (the newest first), and what the next page is asked with:
    nothing once another key has come.
    """
    root = tree_of(body)
    encoded = any(local_name(n.tag) == "EncodingType" and n.text == "url" for n in root)
    found = []
    is_past = False
    for node in [n for n in root if local_name(n.tag) in ("Version", "DeleteMarker")]:
        told = _texts_in(node)
        if _key(told.get("Key"), encoded=encoded) != key:
            is_past = True
        else:
            size = number(told.get("Size"), "size")
            changed_ns = time_ns(told.get("LastModified"))
            removal = local_name(node.tag) == "DeleteMarker"
            found.append(
                Version(
                    told.get("VersionId", ""),
                    size,
                    changed_ns,
                    told.get("IsLatest") == "true",
                    removal,
                    told.get("ETag", "").strip('"'),
                )
            )
    if is_past:
        return found, []
    names = {"NextVersionIdMarker": "version-id-marker"}
    go_on = _next_page(root, names, encoded=encoded)
    return found, go_on


def parse_tags(body: bytes) -> dict[str, str]:
    """Tag names and their values. One without a value has an empty one; the namespace of the
    answer, which not all send, is left aside.
    """
    found = {}
    for node in tree_of(body).iter():
        if local_name(node.tag) == "Tag":
            told = _texts_in(node)
            name = told.get("Key", "")
            found[name] = told.get("Value", "")
    return found


def parse_buckets(body: bytes) -> list[str]:
    return sorted(n.text or "" for n in tree_of(body).iter() if local_name(n.tag) == "Name")
