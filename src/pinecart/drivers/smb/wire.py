"""What goes over the line, as pure functions: names, times, listings (MS-FSCC 2.1.5, 2.4.18)."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from datetime import UTC, datetime

from pinecart.drivers.remote_tree.remote_files import FileKind, FileLook

PORT = 445
EPOCH = 116_444_736_000_000_000  # 1970, in 100 ns since 1601
STEP_NS = 1_000  # as finely as the library tells times
DIRECTORY, REPARSE, ARCHIVE = 0x10, 0x400, 0x20  # file attributes (MS-FSCC 2.6)
MARKS = {"hidden": 0x2, "system": 0x4}  # those that go along
_FORBIDDEN = frozenset('\\/:*?"<>|') | frozenset(map(chr, range(32)))
_LISTED = struct.Struct("<IIqqqqQQIIIIQ")
_1970 = datetime(1970, 1, 1, tzinfo=UTC)


def why_unfit(key: bytes, store: str) -> str:
    """Why no share holds a file of this name, in a sentence; empty: one does."""
    try:
        parts = key.decode().split("/")
    except UnicodeDecodeError:
        return f"pine://{store}/: a share takes only names that are UTF-8 text. Rename the file."
    for part in parts:
        odd = sorted(_FORBIDDEN.intersection(part))
        if odd:
            return (
                f"pine://{store}/{key.decode()[:200]}: a share's names have no "
                f"{' '.join(c if c.isprintable() else repr(c) for c in odd)}. Rename the file."
            )
        if part.endswith((".", " ")):
            return (
                f"pine://{store}/{key.decode()[:200]}: a share drops a dot or a blank at the end "
                "of a name. Rename the file."
            )
        if len(part.encode("utf-16-le")) > 510:
            return f"pine://{store}/{key.decode()[:200]}: a share's names have 255 letters at most."
    return ""


def path_on_share(root: str, path: bytes) -> str:
    """Empty: the share itself."""
    parts = [p for p in root.replace("\\", "/").split("/") if p]
    if path:
        parts += path.decode().split("/")
    return "\\".join(parts)


def ns_of(moment: datetime) -> int:
    """Of a time that the library tells."""
    since = moment - _1970
    return ((since.days * 86_400 + since.seconds) * 1_000_000 + since.microseconds) * 1_000


def filetime_of(modified_ns: int) -> int:
    """100 ns since 1601 (MS-DTYP 2.3.3)."""
    return modified_ns // 100 + EPOCH


def _ns_of_filetime(told: int) -> int:
    return (told - EPOCH) // 10 * 1_000


def look_of(attributes: int, size: int, modified_ns: int) -> FileLook:
    """attributes: as MS-FSCC 2.6 has them.   modified_ns: since 1970."""
    if attributes & REPARSE:
        return FileLook(FileKind.OTHER)
    if attributes & DIRECTORY:
        return FileLook(FileKind.FOLDER)
    marks = tuple(name for name, bit in MARKS.items() if attributes & bit)
    return FileLook(FileKind.FILE, size, modified_ns, marks=marks)


def attributes_of(marks: tuple[str, ...]) -> int:
    """0: as they are."""
    bits = sum(bit for name, bit in MARKS.items() if name in marks)
    if bits:
        return bits | ARCHIVE
    return 0


def listed(buffer: bytes) -> Iterator[tuple[bytes, FileLook]]:
    """Names and looks of a FILE_ID_FULL_DIRECTORY_INFORMATION; what is named by no text can't be
    read. Raises ValueError.
    """
    at = 0
    while True:
        try:
            told = _LISTED.unpack_from(buffer, at)
        except struct.error as exc:
            raise ValueError("a listing is cut") from exc
        following = told[0]
        length = told[9]
        changed = told[4]
        size = told[6]
        attributes = told[8]
        start = at + _LISTED.size
        raw = buffer[start : start + length]
        if len(raw) != length:
            raise ValueError("a listing is cut")
        try:
            name = raw.decode("utf-16-le").encode()
            yield name, look_of(attributes, size, _ns_of_filetime(changed))
        except UnicodeDecodeError:
            name = raw.decode("utf-16-le", "surrogatepass").encode("utf-8", "surrogatepass")
            yield name, FileLook(FileKind.UNREADABLE)
        if not following:
            return
        at += following
