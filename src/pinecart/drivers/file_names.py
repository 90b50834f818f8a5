"""Names of files in real folders, wherever these lie: which are safe, where links lead, and the
hidden ones that a run writes under.
"""

from __future__ import annotations

import itertools
import os
import re

from pinecart.core.entries import FOLDER, Entry
from pinecart.core.errors import Unsafe
from pinecart.core.places import show

_NO_NAMES = frozenset((b"", b".", b".."))


def must_be_safe(key: bytes, store: str) -> None:
    why = why_unsafe(key, store)
    if why:
        raise Unsafe(why)


def why_unsafe(key: bytes, store: str) -> str:
    parts = key.split(b"/")
    if (
        b"\0" in key
        or len(key) > 4000
        or not _NO_NAMES.isdisjoint(parts)
        or len(max(parts, key=len)) > 255
    ):
        return (
            f"pine://{store}/{show(key)}: a folder can't hold this name (an empty part, '.', "
            "'..', NUL, a part over 255 "
            "bytes, or over 4,000 in all). It is left where it is; rename it at the source."
        )
    return ""


def parts_of(prefix: bytes) -> tuple[bytes, ...]:
    """Of a prefix, which may end in a slash or not. Raises Unsafe for one that leads out of where
    it begins, or can't be a name.
    """
    named = prefix.split(b"/")
    parts = tuple(part for part in named if part)
    for part in parts:
        if part in (b".", b"..") or b"\0" in part:
            raise Unsafe(f"{show(prefix)}: '.', '..' and NUL have no place in a path.")
    return parts


def joined(path: bytes, name: bytes) -> bytes:
    """A name in a folder; the root's path is empty."""
    return path + b"/" + name if path else name


def leads_out(parents: tuple[bytes, ...], text: bytes) -> bool:
    """Whether a link in these folders may lead out of the root.

    After a name, `..` may be of another place than it seems.
    """
    parts = text.split(b"/")
    ups = next((n for n, part in enumerate(parts) if part != b".."), len(parts))
    return text.startswith(b"/") or ups > len(parents) or b".." in parts[ups:]


def folder_entry(key: bytes) -> Entry:
    """A folder is there or not: its time changes with whatever is put into it."""
    return Entry(key, 0, None, kind=FOLDER)


class HiddenNames:
    """`.pinecart-RUN-PROCESS-NUMBER.part`: of one run.

    pattern: all of this very run, which a process that is no more may have left.
    """

    def __init__(self, run: str) -> None:
        """run: whose unfinished files have such names, so that those of another that is still alive
        are never taken for left ones.
        """
        self._run = run
        self._numbers = itertools.count(1)
        tag = re.escape(run.encode())
        self.pattern = re.compile(rb"\.pinecart-" + tag + rb"-\d+-\d+(-.+)?\.part")

    def next(self) -> bytes:
        return f".pinecart-{self._run}-{os.getpid()}-{next(self._numbers)}.part".encode()
