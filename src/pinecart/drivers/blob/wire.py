"""Blob storage's wire forms as pure functions (blob service REST, version 2021-12-02)."""

from __future__ import annotations

import base64
import binascii
import re
import xml.etree.ElementTree as ET
from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import NamedTuple
from urllib.parse import unquote_to_bytes
from xml.sax.saxutils import escape

from pinecart.core.entries import Entry
from pinecart.core.errors import Incomplete
from pinecart.core.ports import Version
from pinecart.drivers.bucketed.wire import number
from pinecart.drivers.http_message import http_time_ns
from pinecart.drivers.xml_answers import local_name, tree_of

API_VERSION = "2021-12-02"
CONTAINER_RULE = (
    "3 to 63 small letters, digits and single hyphens, and starts and ends with a letter or digit"
)
_CONTAINER = re.compile(r"(?=.{3,63}\Z)[a-z0-9]+(-[a-z0-9]+)*|\$(root|web|logs)")
_IDENTIFIER = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_OURS = "pinecart"


@lru_cache(maxsize=1024)
def is_container_name(text: str) -> bool:
    return bool(_CONTAINER.fullmatch(text))


class BlobPage(NamedTuple):
    """marker: where to go on; empty at the end."""

    entries: list[Entry]
    folders: list[bytes]
    marker: str


def parse_page(body: bytes, *, prefix: bytes) -> BlobPage:
    """Keys relative to `prefix`. What a hierarchical account shows of its folders is left out.
    Raises Incomplete.
    """
    root = tree_of(body)
    entries: list[Entry] = []
    folders: list[bytes] = []
    marker = ""
    for node in root:
        name = local_name(node.tag)
        if name == "NextMarker":
            marker = node.text or ""
        if name != "Blobs":
            continue
        for blob in node:
            key = _name_of(blob)
            if not key.startswith(prefix):
                raise Incomplete(f"The storage listed {key!r}, which was not asked for.")
            if local_name(blob.tag) == "BlobPrefix":
                folders.append(key[len(prefix) :])
            elif (entry := _entry(blob, key[len(prefix) :])) is not None:
                entries.append(entry)
    return BlobPage(entries, folders, marker)


def _name_of(blob: ET.Element) -> bytes:
    found = blob.find("Name")
    if found is None:
        raise Incomplete("The storage listed something without a name.")
    text = found.text or ""
    if found.get("Encoded") == "true":
        return unquote_to_bytes(text)
    return text.encode()


def _entry(blob: ET.Element, key: bytes) -> Entry | None:
    """None: it is a folder, or was deleted."""
    told = _properties(blob)
    if told.get("ResourceType") == "directory" or blob.findtext("Deleted") == "true":
        return None
    size = number(told.get("Content-Length"), "size")
    return Entry(
        key, size, http_time_ns(told.get("Last-Modified")), told.get("Etag", "").strip('"')
    )


def _properties(blob: ET.Element) -> dict[str, str]:
    """What the service tells of a blob in a listing, by the names of the protocol; empty where
    it tells nothing.
    """
    found = blob.find("Properties")
    if found is None:
        return {}
    return {child.tag: child.text or "" for child in found}


def parse_versions(body: bytes, key: bytes) -> tuple[list[Version], str]:
    """Of exactly this key, as listed, and where the next page begins: nowhere once another name
    has come.
    """
    root = tree_of(body)
    found = []
    is_past = False
    for blob in root.iter("Blob"):
        version = blob.findtext("VersionId") or ""
        if _name_of(blob) != key:
            is_past = True
        elif version:
            told = _properties(blob)
            found.append(
                Version(
                    version,
                    number(told.get("Content-Length"), "size"),
                    http_time_ns(told.get("Last-Modified")),
                    blob.findtext("IsCurrentVersion") == "true",
                    is_removal=False,
                    etag=told.get("Etag", "").strip('"'),
                )
            )
    go_on = root.findtext("NextMarker") or ""
    return found, "" if is_past else go_on


def parse_containers(body: bytes) -> tuple[list[str], str]:
    """Names, and where to go on."""
    root = tree_of(body)
    found = root.iter("Container")
    names = [node.findtext("Name") or "" for node in found]
    go_on = root.findtext("NextMarker") or ""
    return names, go_on


def parse_tags(body: bytes) -> dict[str, str]:
    tags = tree_of(body).iter("Tag")
    return {tag.findtext("Key") or "": tag.findtext("Value") or "" for tag in tags}


# --- blocks


def block_id(number: int, crc: str) -> str:
    """All of a blob have one length. It tells what the block holds: crc, as Base64."""
    return base64.b64encode(f"{_OURS}-{number:05d}-{crc}".encode()).decode()


def block_told(block: str) -> tuple[int, str] | None:
    """Number and CRC-64 that the name of a block of ours tells; None: it is somebody else's,
    and nothing is known of what it holds.
    """
    try:
        text = base64.b64decode(block, validate=True).decode()
    except (binascii.Error, ValueError):
        return None
    found = re.fullmatch(rf"{_OURS}-(\d{{5}})-(.+)", text)
    if found:
        return (int(found[1]), found[2])
    return None


def block_list(blocks: Sequence[str]) -> bytes:
    inner = "".join([f"<Latest>{escape(block)}</Latest>" for block in blocks])
    return f'<?xml version="1.0" encoding="utf-8"?><BlockList>{inner}</BlockList>'.encode()


def parse_uncommitted(body: bytes) -> dict[str, int]:
    """Block → size."""
    found = tree_of(body).find("UncommittedBlocks")
    if found is None:
        return {}
    return {
        block.findtext("Name") or "": number(block.findtext("Size"), "block's size")
        for block in found
    }


def their_crc(crc: str) -> str:
    """The checksum of a content as this storage writes it: the same eight bytes, the last first."""
    return base64.b64encode(base64.b64decode(crc)[::-1]).decode()


# --- metadata: names are identifiers, values plain text in ASCII


def metadata_told(metadata: Mapping[str, str]) -> tuple[dict[str, str], list[str]]:
    """As it is kept there, and the names of what can't be."""
    kept = {}
    lost = []
    for name, value in metadata.items():
        there = name
        if name.startswith(f"{_OURS}-"):
            there = name.replace("-", "_")
        is_name = _IDENTIFIER.fullmatch(there)
        is_plain = value and value.isascii() and value.isprintable()
        if is_name and is_plain:
            kept[there] = value
        else:
            lost.append(name)
    return kept, lost


def metadata_read(told: Mapping[str, str]) -> dict[str, str]:
    """As it was given: names may have no hyphens there, so that ours are written with underscores
    and turned back here.
    """
    return {
        name.replace("_", "-") if name.startswith(f"{_OURS}_") else name: value
        for name, value in told.items()
    }
