"""Entries of listings, their fingerprints, and what the ledger remembers of them.

A fingerprint is a short text of what its store tells of an object. A folder's file: size, mtime,
ctime, inode (all four from one fstat). A bucket's object: size and ETag, never the listing's time
(and no version id: listings don't carry it). An ETag is opaque: equal means same, nothing more.
Where a store tells neither: size and time. Where it tells not even that, the fingerprint is of
nothing that could change, and the content is asked each time.
"""

from __future__ import annotations

import re
from enum import Enum
from struct import error, pack
from typing import NamedTuple

FOLDER = "folder"
LINK = "link"
SETTLE_S = 60.0  # a file must have been untouched for so long before it is cleared from its folder
# a write within the clock step of many file systems can leave size and time as they were
RACY_NS = 2_000_000_000


class Entry(NamedTuple):
    """One object as a listing shows it.

    key: bytes, relative to the place that was listed, exactly as the store has it.
    size: bytes.   modified_ns: ns since 1970 UTC; None if the store keeps none.
    etag, version: a bucket's, as given.   ctime_ns, inode: a file system's; 0 where there are none.
    kind: FOLDER (there for its files) or LINK (kept as one), as the driver says; empty for all
    others. fault: why it can't be taken ("unsafe-name", "not-a-file", "unreadable", "name-clash",
    "below-a-file"); empty for most.
    """

    key: bytes
    size: int
    modified_ns: int | None
    etag: str = ""
    version: str = ""
    ctime_ns: int = 0
    inode: int = 0
    fault: str = ""
    kind: str = ""
    was: bytes = b""

    @property
    def is_link(self) -> bool:
        return self.kind == LINK

    @property
    def is_place(self) -> bool:
        """A folder that is there for its files, and no object that somebody made."""
        return self.kind == FOLDER

    @property
    def is_folder(self) -> bool:
        """A folder of its own: a zero-byte key that ends in `/`."""
        return self.key.endswith(b"/") and not self.size and not self.fault

    @property
    def source_key(self) -> bytes:
        """The key at the source: another than `key` where a rule renames on the way."""
        return self.was or self.key


# A ledger row as it is kept: key, source, there, and in one text all else, seldom needed.
Stored = tuple[bytes, str, str, str]
_MARKS = {"-": (False, False), "r": (True, False), "c": (False, True), "b": (True, True)}
_MARK_OF = {flags: mark for mark, flags in _MARKS.items()}


class Row(NamedTuple):
    """What the ledger remembers of one object placed or recognised.

    source, there: fingerprints.   crc: CRC-64/NVME of the content, base64; empty if unknown.
    racy: its source was read within two seconds of its change.   cleared: the source was cleared
    after proof. run: id of the run that wrote this row.
    """

    key: bytes
    source: str
    there: str
    crc: str = ""
    racy: bool = False
    cleared: bool = False
    run: int = 0

    def stored(self) -> Stored:
        state = f"{_MARK_OF[self.racy, self.cleared]}{self.run}:{self.crc}"
        return self.key, self.source, self.there, state

    @classmethod
    def read(cls, stored: Stored) -> Row:
        key, source, there, state = stored
        run, _, crc = state[1:].partition(":")
        return cls(key, source, there, crc, *_MARKS[state[0]], int(run))


class Aside(NamedTuple):
    """One object set aside: what was removed, cleared or replaced, and where it is kept.

    side: "source" or "target".   key: relative to the leg's place, under the name it has there.
    at: the whole key of what is kept, in the same store.   was: fingerprint of the object before,
    `kept`: of what is kept. version: the bucket itself keeps it, under its own key `at`, as this
    version.
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


OF_FILE = 64  # characters
NOTHING_TOLD = "|?"
_64_BITS = (1 << 64) - 1


def fingerprint(entry: Entry) -> str:
    """Of a file: size, both times and inode, 16 hexadecimal digits each. Of an object: size and
    ETag; else size and time.
    """
    if not entry.inode:
        return f"{entry.size}|{_told_of(entry)}"
    four = entry.size, entry.modified_ns or 0, entry.ctime_ns, entry.inode
    try:
        return pack(">4Q", *four).hex()
    except error:  # a time before 1970 or after 2554
        return "".join(f"{number & _64_BITS:016x}" for number in four)


def _told_of(entry: Entry) -> str:
    if entry.etag or entry.kind == FOLDER:
        return entry.etag or FOLDER
    if entry.modified_ns is None:
        return "?"
    return f"@{entry.modified_ns}"


def same(one: Entry, other: Entry) -> bool:
    """Whether their fingerprints are the same."""
    if one.inode or other.inode:
        same_times = one[1:3] == other[1:3]
        return same_times and one[5:7] == other[5:7]
    if one.etag and other.etag:
        same_size = one.size == other.size
        return same_size and one.etag == other.etag
    return fingerprint(one) == fingerprint(other)


def likeness(entry: Entry, remembered: str) -> Likeness:
    """How an entry compares with a remembered fingerprint."""
    now = fingerprint(entry)
    if now == remembered:
        if now.endswith(NOTHING_TOLD):
            return Likeness.TOUCHED
        return Likeness.SAME
    if entry.inode and now[:32] == remembered[:32]:
        return Likeness.TOUCHED
    return Likeness.DIFFERENT


_OF_PARTS = re.compile(r"[0-9a-fA-F]{32}-\d{1,5}")


def is_of_parts(entry: Entry) -> bool:
    """Whether its ETag is of a bucket's object that was made of parts."""
    return bool(_OF_PARTS.fullmatch(entry.etag))


def size_of(remembered: str) -> int:
    """The size in bytes that a fingerprint remembers."""
    size, bar, _ = remembered.partition("|")
    if bar:
        return int(size)
    return int(remembered[:16], 16)


def modified_ns_of(remembered: str) -> int | None:
    """The time, in nanoseconds since 1970, that a file's fingerprint remembers, also before
    1970; None: it is no file's fingerprint.
    """
    if "|" in remembered or len(remembered) != OF_FILE:
        return None
    found = int(remembered[16:32], 16)
    if found >> 63:
        return found - (1 << 64)
    return found


def is_racy(entry: Entry, read_at_ns: int, step_ns: int = RACY_NS) -> bool:
    """Whether a change made just after this reading could leave the fingerprint as it is."""
    by_time = bool(entry.inode) or not entry.etag
    return by_time and entry.modified_ns is not None and read_at_ns - entry.modified_ns < step_ns
