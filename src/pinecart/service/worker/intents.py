"""What a run is about to write, told to the disk at once: a file that outlives the process, next to
its log.

One line for each object, with one call to the kernel and no flush: it has to outlive this process,
not the machine. Whoever takes the run up again then knows its own writes from what others have put
there, also where nothing is kept with a file.
"""

from __future__ import annotations

import os
from base64 import b64decode, b64encode
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

TOGETHER = 500


class Intents:
    def __init__(self, file: Path) -> None:
        self._file = file
        self._fd: int | None = None

    def write(self, leg: int, key: bytes, decision: str, reason: str) -> None:
        """Before anything is done to the object. It is in the system's hands then, and outlives
        this process.
        """
        if self._fd is None:
            self._fd = os.open(
                self._file, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o600
            )
        os.write(
            self._fd, b"%d %b %b %b\n" % (leg, decision.encode(), reason.encode(), b64encode(key))
        )

    def read(self, leg: int) -> Iterator[dict[bytes, tuple[str, str]]]:
        """key → (decision, reason), some at a time; of a key that comes twice the last counts.

        A torn line is none.
        """
        if not self._file.exists():
            return
        with self._file.open("rb") as lines:
            while some := list(islice(lines, TOGETHER)):
                found = {}
                for line in some:
                    parts = line.split()
                    if line.endswith(b"\n") and len(parts) == 4 and int(parts[0]) == leg:
                        found[b64decode(parts[3])] = (parts[1].decode(), parts[2].decode())
                yield found

    def close(self) -> None:
        """Nothing is under way any more."""
        if self._fd is not None:
            os.close(self._fd)
            self._fd = None
        self._file.unlink(missing_ok=True)
