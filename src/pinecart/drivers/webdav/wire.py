"""What goes over the line, as pure functions (RFC 4918, 4331, 9110)."""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET
from functools import lru_cache
from typing import Any, NamedTuple
from urllib.parse import quote_from_bytes, unquote_to_bytes

from pinecart.core.errors import Busy, Incomplete
from pinecart.drivers.http_message import http_time_ns
from pinecart.drivers.remote_tree.remote_files import FileKind, FileLook
from pinecart.drivers.xml_answers import CONTROLS

DAV = "{DAV:}"
_HREF, _STATUS_TAG, _PROPSTAT, _PROP, _COLLECTION = (
    DAV + name for name in ("href", "status", "propstat", "prop", "collection")
)
_SAFE = "/-_.~"
_LOOK = ("resourcetype", "getcontentlength", "getlastmodified", "getetag")
_ROOM = ("quota-available-bytes", "quota-used-bytes")
_STATUS = re.compile(r"HTTP/[\d.]+ (\d{3})")


def asking_for(names: tuple[str, ...]) -> bytes:
    """The body of a PROPFIND."""
    asked = [f"<{name}/>" for name in names]
    props = "".join(asked)
    head = '<?xml version="1.0" encoding="utf-8"?>'
    text = f'{head}<propfind xmlns="DAV:"><prop>{props}</prop></propfind>'
    return text.encode()


ASK_LOOK = asking_for(_LOOK)
ASK_ROOM = asking_for(_ROOM)


def encoded(path: bytes) -> str:
    return quote_from_bytes(path, safe=_SAFE)


def path_of(href: str) -> bytes:
    """The path of an address, decoded, without a slash at its end; servers write whole addresses
    as well, and letters that aren't ASCII, `?` and `#` as they are: what is told here is a path.
    Raises Incomplete.
    """
    path = href.strip()
    if "://" in path:
        path = "/" + path.partition("://")[2].partition("/")[2]
    if "%2f" in path.lower():
        raise Incomplete(f"The server told an address with a slash inside a name: {href[:200]!r}.")
    return unquote_to_bytes(path.encode("utf-8", "surrogateescape")).rstrip(b"/")


class Told(NamedTuple):
    """One response of a multistatus. status: of all of it, or of its properties; 200: well.

    props: name → text; a collection has the name `collection`.
    """

    path: bytes
    status: int
    props: dict[str, str]

    @property
    def look(self) -> FileLook:
        """What it is, of the properties that came. One without a length, or that was refused, is
        there and can't be read.
        """
        props = self.props
        if self.status >= 400:
            return FileLook(FileKind.UNREADABLE)
        if "collection" in props:
            return FileLook(FileKind.FOLDER)
        size = number_told(props.get("getcontentlength", ""))
        if size is None:
            return FileLook(FileKind.UNREADABLE)
        etag, is_firm = etag_of(props.get("getetag", ""))
        changed = props.get("getlastmodified", "")
        modified = http_time_ns(changed)
        return FileLook(FileKind.FILE, size, modified, etag=etag, is_firm=is_firm)


class Multistatus:
    """Reads a 207 as it comes: a folder of many files is never held as a tree of nodes."""

    def __init__(self) -> None:
        self._parser: Any = ET.XMLPullParser(events=("start", "end"))
        self._root: ET.Element | None = None

    def feed(self, chunk: bytes) -> list[Told]:
        """Raises Busy for what is no multistatus."""
        try:
            self._parser.feed(CONTROLS.sub(b"?", chunk))
        except ET.ParseError as exc:
            raise _cut(exc) from exc
        return self._read()

    def close(self) -> list[Told]:
        try:
            self._parser.close()
        except ET.ParseError as exc:
            raise _cut(exc) from exc
        return self._read()

    def _read(self) -> list[Told]:
        """The rows that are whole by now; each is let go once it is read, so that a large answer
        needs little memory. Raises Busy where it is cut.
        """
        found = []
        try:
            for event, node in self._parser.read_events():
                if self._root is None:
                    self._root = node
                    if node.tag != DAV + "multistatus":
                        raise _cut(f"it begins with {node.tag[:40]}")
                if event == "end" and node.tag == DAV + "response":
                    found.append(_told(node))
                    self._root.clear()
        except ET.ParseError as exc:
            raise _cut(exc) from exc
        return found


def _cut(why: object) -> Busy:
    return Busy(f"The server's list was cut or is no list ({why}).", code="store.cut")


def _told(response: ET.Element) -> Told:
    """One row: its path, its properties, and the worst status that matters. A property that it
    hasn't is no refusal of the file.
    """
    href = ""
    status = 200
    props = dict[str, str]()
    refused = 0
    for node in response:  # plain loops: there is one response for each file
        if node.tag == _HREF:
            href = node.text or ""
        elif node.tag == _STATUS_TAG:
            status = _status(node.text)
        elif node.tag == _PROPSTAT:
            of_group = _props_of(node, props)
            if of_group in (401, 403):  # others are properties that it has not
                refused = max(refused, of_group)
    return Told(path_of(href), 200 if props else max(status, refused), props)


def _props_of(group: ET.Element, props: dict[str, str]) -> int:
    """Adds what it has. Its status."""
    status = 200
    told = dict[str, str]()
    for part in group:
        if part.tag == _STATUS_TAG:
            status = _status(part.text)
        elif part.tag == _PROP:
            for node in part:
                name = node.tag.removeprefix(DAV)
                if name != "resourcetype":
                    told[name] = node.text or ""
                elif node.find(_COLLECTION) is not None:
                    told["collection"] = ""
    if status < 300:
        props |= told
    return status


@lru_cache(maxsize=64)
def _status(line: str | None) -> int:
    """The number in a status line; what can't be read counts as fine, since the answer as a whole
    was.
    """
    found = _STATUS.match((line or "").strip())
    if found:
        return int(found[1])
    return 200


def told_by(body: bytes) -> list[Told]:
    """Of a whole 207."""
    reader = Multistatus()
    return reader.feed(body) + reader.close()


def number_told(text: str) -> int | None:
    """None: it is no number of bytes."""
    told = text.strip()
    is_number = told.isascii() and told.isdecimal() and len(told) < 19
    if is_number:
        return int(told)
    return None


def etag_of(text: str) -> tuple[str, bool]:
    """An ETag without its quotes and its mark of weakness; and whether it is a strong one."""
    bare = text.strip()
    is_weak = bare.startswith("W/")
    inner = bare.removeprefix("W/").strip('"')
    return inner, bool(inner) and not is_weak and bare.startswith('"')


def only_if(url: str, etag: str) -> str:
    """An `If` header: only while this is what has that address (RFC 4918, section 10.4)."""
    return f'<{url}> (["{etag}"])'
