"""Listings of a bucket, in both versions of the protocol, and the odd ways of some servers."""

from __future__ import annotations

import base64
from collections.abc import Callable
from typing import NamedTuple
from urllib.parse import quote

from aiohttp import web

from pinecart.standins.bucket_request import Asked
from pinecart.standins.bucket_shelf import Shelf, Thing
from pinecart.standins.bucket_xml import Fault, contents, document, iso, leaf, tag


class Page(NamedTuple):
    """rows: of XML.   last: the key after which the next page begins.   more: there is one."""

    rows: list[str]
    last: str
    more: bool


def list_objects(shelf: Shelf, asked: Asked, old: frozenset[str], most_keys: int) -> web.Response:
    """old: ways of older or careless servers."""
    query = asked.query
    encode = _encoding(asked)
    is_first = "listing-1" in old
    token = query.get("continuation-token", "")
    if "marker" in query and not is_first and query.get("list-type") == "2":
        raise Fault("InvalidArgument")
    after = query.get("marker", "") if is_first else query.get("start-after", "")
    if token and not is_first:
        after = base64.urlsafe_b64decode(token).decode()
    limit = min(int(query.get("max-keys", most_keys)), most_keys)
    page = _page(shelf, asked, after, limit, goes_on=bool(token))
    if "folders-come-again" in old and after and not token:
        every = _page(shelf, asked, "", len(shelf.buckets[asked.bucket]), goes_on=False).rows
        before = every[: every.index(page.rows[0]) if page.rows else None]
        again = [row for row in before if "<CommonPrefixes>" in row]
        page = page._replace(rows=again + page.rows)
    rows = page.rows
    if "listing-unordered" in old:
        rows.reverse()
    if "listing-repeats" in old:
        rows += rows[-1:]
    head = [leaf("Name", asked.bucket), leaf("IsTruncated", str(page.more).lower())]
    if encode is quote:
        rows = [*rows, leaf("EncodingType", "url")]
    if is_first:
        return document("ListBucketResult", *head, *rows)
    head.append(leaf("KeyCount", len(page.rows)))
    if "token-raw" in old:
        raw = ""
        if page.more:
            raw = f"<NextContinuationToken>{page.last}</NextContinuationToken>"
        start = query.get("start-after")
        if start is not None:
            raw += f"<StartAfter>{start}</StartAfter>"
        return document("ListBucketResult", *head, raw, *rows)
    prefix = encode(query.get("prefix", ""))
    head.append(leaf("Prefix", prefix))
    head.append(leaf("MaxKeys", limit))
    if page.more:
        following = base64.urlsafe_b64encode(page.last.encode()).decode()
        rows = [*rows, leaf("NextContinuationToken", following)]
    return document("ListBucketResult", *head, *rows)


def _page(shelf: Shelf, asked: Asked, after: str, limit: int, *, goes_on: bool) -> Page:
    """goes_on: after a page before, whose last folder isn't shown again."""
    encode = _encoding(asked)
    prefix = asked.query.get("prefix", "")
    delimiter = asked.query.get("delimiter", "")
    rows: list[str] = []
    last = after
    seen = set[str]()
    for key in shelf.keys_after(asked.bucket, after):
        if not key.startswith(prefix):
            continue
        cut = key.find(delimiter, len(prefix)) if delimiter else -1
        folder = key[: cut + len(delimiter)] if cut >= 0 else ""
        if folder and (folder in seen or (after.startswith(folder) and goes_on)):
            last = key
            continue
        if len(rows) == limit:
            return Page(rows, last, True)
        last = key
        if folder:
            seen.add(folder)
            rows.append(tag("CommonPrefixes", leaf("Prefix", encode(folder))))
        else:
            rows.append(contents(encode(key), shelf.buckets[asked.bucket][key]))
    return Page(rows, last, False)


class Marked(NamedTuple):
    """A row that a page can begin after."""

    key: str
    number: str
    row: str


def list_versions(shelf: Shelf, asked: Asked, most: int) -> web.Response:
    bucket = asked.bucket
    encode = _encoding(asked)
    keys = {key for where, key in shelf.past if where == bucket}
    keys |= shelf.buckets[bucket].keys()
    rows = []
    for key in sorted(keys, key=str.encode):
        name = encode(key)
        for n, thing in enumerate(shelf.versions(bucket, key)):
            row = _version(name, thing, is_latest=n == 0)
            rows.append(Marked(key, thing.version or "null", row))
    return document("ListVersionsResult", *_marked_page(rows, asked, "Version", most))


def list_uploads(shelf: Shelf, asked: Asked, most: int) -> web.Response:
    """Unfinished uploads of one bucket, by key and then by number, as many as are asked for at
    most.
    """
    encode = _encoding(asked)
    rows = []
    for number, upload in shelf.uploads.items():
        if upload.bucket == asked.bucket:
            told = [
                leaf("Key", encode(upload.key)),
                leaf("UploadId", number),
                leaf("Initiated", iso(upload.started)),
            ]
            rows.append(Marked(upload.key, number, tag("Upload", *told)))
    rows.sort()
    return document("ListMultipartUploadsResult", *_marked_page(rows, asked, "Upload", most))


def _marked_page(rows: list[Marked], asked: Asked, kind: str, most: int) -> list[str]:
    """What is told of a page of `rows`, and of where the next one begins."""
    prefix = asked.query.get("prefix", "")
    encode = _encoding(asked)
    after = asked.query.get("key-marker", "")
    number = asked.query.get(f"{kind.lower()}-id-marker", "")
    left = [row for row in rows if row.key.startswith(prefix)]
    if number:
        places = [(row.key, row.number) for row in left]
        left = left[places.index((after, number)) + 1 :]
    elif after:
        left = [row for row in left if row.key.encode() > after.encode()]
    page = left[:most]
    more = len(left) > most
    told = [leaf("Name", asked.bucket), leaf("IsTruncated", str(more).lower())]
    if encode is quote:
        told.append(leaf("EncodingType", "url"))
    if more:
        told.append(leaf("NextKeyMarker", encode(page[-1].key)))
        told.append(leaf(f"Next{kind}IdMarker", page[-1].number))
    return told + [row.row for row in page]


def _version(name: str, thing: Thing, *, is_latest: bool) -> str:
    """One row of a listing of versions: an object, or the mark that says that it was removed."""
    told = [
        leaf("Key", name),
        leaf("VersionId", thing.version or "null"),
        leaf("IsLatest", str(is_latest).lower()),
        leaf("LastModified", iso(thing.modified)),
    ]
    if thing.gone:
        return tag("DeleteMarker", *told)
    told.append(leaf("ETag", f'"{thing.etag}"'))
    told.append(leaf("Size", thing.size))
    return tag("Version", *told)


def _encoding(asked: Asked) -> Callable[[str], str]:
    if asked.query.get("encoding-type") == "url":
        return quote
    return str
