"""The files that got their names in a folder by this run."""

from __future__ import annotations

import bisect
from array import array


class OwnFiles:
    """Inodes of the files that this run has put there."""

    def __init__(self) -> None:
        self._inodes = array("Q")
        self._is_sorted = True

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
