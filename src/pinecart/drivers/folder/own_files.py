"""What a run has put, or is putting, in a folder: the hidden names that it writes under, and the
files that got their names by it.
"""

from __future__ import annotations

import bisect
import itertools
import os
import re
from array import array


class HiddenNames:
    """`.pinecart-RUN-PROCESS-NUMBER.part`: of one run.

    pattern: all of this very run, which a process that is no more may have left.
    """

    def __init__(self, run: str) -> None:
        self._run, self._numbers = run, itertools.count(1)
        tag = re.escape(run.encode())
        self.pattern = re.compile(rb"\.pinecart-" + tag + rb"-\d+-\d+(-.+)?\.part")

    def next(self) -> bytes:
        return f".pinecart-{self._run}-{os.getpid()}-{next(self._numbers)}.part".encode()


class OwnFiles:
    """Inodes of the files that this run has put there."""

    def __init__(self) -> None:
        self._inodes, self._is_sorted = array("Q"), True

    def add(self, inode: int) -> None:
        self._inodes.append(inode)
        self._is_sorted = False

    def __contains__(self, inode: int) -> bool:
        if not self._is_sorted:
            self._inodes = array("Q", sorted(self._inodes))
            self._is_sorted = True
        known = self._inodes
        at = bisect.bisect_left(known, inode)
        return at < len(known) and known[at] == inode
