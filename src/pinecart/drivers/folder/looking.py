"""Many files of one folder looked at together: the kernel writes what it knows of them into one
buffer, which is read as columns.
"""

from __future__ import annotations

import ctypes
import stat as st
from collections.abc import Sequence
from itertools import repeat
from typing import NamedTuple

AT_ONCE = 1000
# struct statx (Linux, statx(2)): the same on every processor; offsets in bytes.
_SIZE = 256
_MODE = 28
_INODE = 32
_LENGTH = 40
_CHANGED = 96
_MODIFIED = 112
_WANTED = 0x1 | 0x40 | 0x80 | 0x100 | 0x200  # type, mtime, ctime, inode, size
_NOFOLLOW = 0x100
_KIND = 0o170000
_STATX = getattr(ctypes.CDLL(None), "statx", None)


class SeenFiles(NamedTuple):
    size: Sequence[int]
    modified_ns: Sequence[int]
    ctime_ns: Sequence[int]
    inode: Sequence[int]


class Looker:
    """Looks at up to AT_ONCE names at a time.

    For one thread at a time: the buffer is used again.
    """

    def __init__(self) -> None:
        self._ready = False

    def _make_room(self) -> None:
        self._ready = True
        room = (ctypes.c_char * (_SIZE * AT_ONCE))()
        start = ctypes.addressof(room)
        self._places = [ctypes.c_void_p(start + _SIZE * n) for n in range(AT_ONCE)]
        plain = memoryview(room).cast("B")
        self._numbers = plain.cast("Q")
        self._signed = plain.cast("q")
        self._halves = plain.cast("I")
        self._shorts = plain.cast("H")

    def files(self, folder: int, names: Sequence[bytes]) -> SeenFiles | None:
        """What is known of each, in their order.

        None: not all of them are plain files, or one can't be looked at.
        """
        if _STATX is None or len(names) > AT_ONCE:
            return None
        if not self._ready:
            self._make_room()
        fd = ctypes.c_int(folder)
        flags = ctypes.c_int(_NOFOLLOW)
        wanted = ctypes.c_uint(_WANTED)
        if any(map(_STATX, repeat(fd), names, repeat(flags), repeat(wanted), self._places)):
            return None
        count = len(names)
        if any(_WANTED & ~told for told in set(_every(self._halves, 0, count))):
            return None  # a file system that doesn't tell all of it
        if {mode & _KIND for mode in set(_every(self._shorts, _MODE, count))} != {st.S_IFREG}:
            return None
        return SeenFiles(
            _every(self._numbers, _LENGTH, count),
            self._times(_MODIFIED, count),
            self._times(_CHANGED, count),
            _every(self._numbers, _INODE, count),
        )

    def _times(self, at: int, count: int) -> list[int]:
        seconds = _every(self._signed, at, count)
        rest = _every(self._halves, at + 8, count)
        return [s * 1_000_000_000 + ns for s, ns in zip(seconds, rest, strict=True)]


def _every(view: memoryview, at: int, count: int) -> list[int]:
    """The number at this offset of each of the first `count` places."""
    step = _SIZE // view.itemsize
    return view[at // view.itemsize : step * count : step].tolist()
