"""Entries of listings, their fingerprints, and what the ledger remembers of them.

A fingerprint is a short text. A folder's file: size, mtime, ctime, inode (all four from one fstat). A bucket's
object: size and ETag, never the listing's time (and no version id: listings don't carry it). An ETag is opaque: equal
means same, nothing more.
"""

from __future__ import annotations

from collections.abc import Sequence
from enum import Enum
from typing import NamedTuple

SETTLE_S = 60.0  # a file must have been untouched for so long before it is cleared from its folder
RACY_NS = 2_000_000_000  # a write within the clock step of many file systems can leave size and time as they were


class Entry(NamedTuple):
    """One object as a listing shows it.

    key: bytes, relative to the place that was listed, exactly as the store has it.
    size: bytes.   modified_ns: ns since 1970 UTC; None if the store keeps none.
    etag, version: a bucket's, as given.   ctime_ns, inode: a folder's; inode 0 means it is a bucket's object.
    fault: why it can't be taken ("unsafe-name", "not-a-file", "unreadable", "name-clash"); empty for most.
    """

    key: bytes
    size: int
    modified_ns: int | None
    etag: str = ""
    version: str = ""
    ctime_ns: int = 0
    inode: int = 0
    fault: str = ""
    was: bytes = b""

    @property
    def is_folder(self) -> bool:
        """A folder of its own: a zero-byte key that ends in `/`."""
        return self.key.endswith(b"/") and not self.size and not self.fault

    @property
    def source_key(self) -> bytes:
        """The key at the source: another than `key` where a rule renames on the way."""
        return self.was or self.key


class Row(NamedTuple):
    """What the ledger remembers of one object placed or recognised.

    source, there: fingerprints.   crc: CRC-64/NVME of the content, base64; empty if unknown.
    racy: its source was read within two seconds of its change.   cleared: the source was cleared after proof.
    run: id of the run that wrote this row.
    """

    key: bytes
    source: str
    there: str
    crc: str = ""
    racy: bool = False
    cleared: bool = False
    run: int = 0


class Aside(NamedTuple):
    """One object set aside: what was removed, cleared or replaced, and where it is kept.

    side: "source" or "target".   key: relative to the leg's place, under the name it has there.
    at: the whole key of what is kept, in the same store.   was: fingerprint of the object before, `kept`: of what is kept.
    version: the bucket itself keeps it, under its own key `at`, as this version.
    """

    leg: int
    side: str
    key: bytes
    at: bytes
    size: int
    was: str
    kept: str = ""
    version: str = ""


class Likeness(Enum):
    SAME = "same"
    TOUCHED = "touched"  # only ctime or inode differ: the content decides
    DIFFERENT = "different"


def fingerprint(entry: Entry) -> str:
    if entry.inode:
        return f"{entry.size}.{entry.modified_ns}.{entry.ctime_ns}.{entry.inode}"
    return f"{entry.size}|{entry.etag}"


class Columns(NamedTuple):
    """The fields of many entries, field by field: looked at together they cost a fraction of one by one."""

    key: tuple[bytes, ...]
    size: tuple[int, ...]
    modified_ns: tuple[int | None, ...]
    etag: tuple[str, ...]
    version: tuple[str, ...]
    ctime_ns: tuple[int, ...]
    inode: tuple[int, ...]
    fault: tuple[str, ...]
    was: tuple[bytes, ...]

    @classmethod
    def of(cls, entries: Sequence[Entry]) -> Columns:
        return cls(*zip(*entries, strict=True))

    def fingerprints(self) -> list[str]:
        if all(self.inode):
            four = zip(self.size, self.modified_ns, self.ctime_ns, self.inode, strict=True)
            return [f"{s}.{m}.{c}.{i}" for s, m, c, i in four]
        if not any(self.inode):
            return [f"{s}|{e}" for s, e in zip(self.size, self.etag, strict=True)]
        return [fingerprint(Entry(*fields)) for fields in zip(*self, strict=True)]


def likeness(entry: Entry, remembered: str) -> Likeness:
    """How an entry compares with a remembered fingerprint."""
    now = fingerprint(entry)
    if now == remembered:
        return Likeness.SAME
    if entry.inode and now.split(".")[:2] == remembered.split(".")[:2]:
        return Likeness.TOUCHED
    return Likeness.DIFFERENT


def size_of(remembered: str) -> int:
    """The size in bytes that a fingerprint remembers."""
    return int(remembered.replace("|", ".").split(".", 1)[0])


def is_racy(entry: Entry, read_at_ns: int, step_ns: int = RACY_NS) -> bool:
    """Whether a change made just after this reading could leave the fingerprint as it is."""
    return bool(entry.inode) and entry.modified_ns is not None and read_at_ns - entry.modified_ns < step_ns
