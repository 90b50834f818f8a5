"""The hidden names of a remote tree: of files on their way, and of large ones that a later process
goes on with.
"""

from __future__ import annotations

import hashlib
import re
import secrets

from pinecart.drivers.file_names import HiddenNames


class TreeNames:
    """service: what tells this service's files from another's that works in the same folder."""

    def __init__(self, service: str, run: str) -> None:
        self._hidden = HiddenNames(f"{service}.{run}" if service else run)
        self._live: set[bytes] = set()
        self._resumable = f".pinecart-{service}-u".encode()

    def beside(self, key: bytes) -> bytes:
        """A new hidden path in the folder of `key`. Say `over` when it is no more."""
        folder, slash, _ = key.rpartition(b"/")
        name = self._hidden.next()
        self._live.add(name)
        return folder + slash + name

    def over(self, path: bytes) -> None:
        self._live.discard(path.rpartition(b"/")[2])

    def is_left(self, name: bytes) -> bool:
        """Whether this very run, in a process that is no more, left it half written."""
        return bool(self._hidden.pattern.fullmatch(name)) and name not in self._live

    def resumable(self, key: bytes) -> bytes:
        """A new hidden path for a large file, which the journal remembers."""
        folder, slash, _ = key.rpartition(b"/")
        return folder + slash + self._of(key) + secrets.token_hex(6).encode() + b".part"

    def is_resumable(self, name: bytes) -> bool:
        return name.startswith(self._resumable) and name.endswith(b".part")

    def is_resumable_of(self, name: bytes, key: bytes) -> bool:
        ours = re.escape(self._of(key)) + rb"[0-9a-f]{12}\.part"
        return bool(re.fullmatch(ours, name))

    def _of(self, key: bytes) -> bytes:
        return self._resumable + hashlib.blake2b(key, digest_size=8).hexdigest().encode() + b"-"
