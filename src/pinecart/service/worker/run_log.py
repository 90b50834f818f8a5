"""A run's log: JSON lines, of which the oldest go when there are too many."""

from __future__ import annotations

import json
import logging
import os
from collections.abc import Mapping
from datetime import UTC, datetime
from logging.handlers import RotatingFileHandler
from pathlib import Path
from typing import Any

from pinecart.service.runs.log_files import begin_of

LEVELS = {
    "problem": "warning",
    "given-up": "warning",
    "uploads-left": "warning",
    "helper-lost": "warning",
    "held": "warning",
    "log-file": "warning",
    "failed": "error",
    "defect": "error",
    "records-lost": "error",
    "superseded": "error",
}
BYTES_OF_ONE = 16 << 20
FILES_BEFORE = 3


class RunLog:
    """One line an event: when, how bad, of which run, what, in a sentence, with fields.

    file: the newest of its files; the ones before it are file.1, file.2 and so on.   others: a
    descriptor that each line is written to as well; -1: none.
    """

    def __init__(self, run: int, file: Path, limit: int = BYTES_OF_ONE) -> None:
        self._run = run
        self._handler = _Rotating(file, limit)
        self.others = -1

    def write(self, action: str, message: str, fields: Mapping[str, Any]) -> None:
        """One line of JSON; a second copy goes where the service was told to log to, as long as
        that can be written to.
        """
        now = datetime.now(UTC).isoformat(timespec="milliseconds")
        told = {
            "at": now.replace("+00:00", "Z"),
            "level": LEVELS.get(action, "info"),
            "run": self._run,
            "action": action,
            "message": message,
            **fields,
        }
        line = json.dumps(told)
        self._handler.emit(logging.makeLogRecord({"msg": line}))
        if self.others >= 0:
            self._write_too(line)

    def _write_too(self, line: str) -> None:
        """In one write, so that lines of several runs never mix. A log is no reason to fail."""
        try:
            os.write(self.others, line.encode() + b"\n")
        except OSError as exc:
            os.close(self.others)
            self.others = -1
            said = f"The file that this log is appended to takes no more: {exc.strerror or exc}."
            self.write("log-file", said, {})

    def close(self) -> None:
        self._handler.close()
        if self.others >= 0:
            os.close(self.others)


class _Rotating(RotatingFileHandler):
    """Its files begin by telling where they begin in the whole, so that a reader who stood within
    one finds its place again.
    """

    def __init__(self, file: Path, limit: int) -> None:
        self._begins_at = begin_of(file)
        super().__init__(file, maxBytes=limit, backupCount=FILES_BEFORE, encoding="utf-8")

    def doRollover(self) -> None:
        """The new file's first line says at which byte of the whole log it begins, so that readers
        go on where they were.
        """
        size = Path(self.baseFilename).stat().st_size
        self._begins_at += size
        super().doRollover()
        head = {"action": "goes-on", "begins_at": self._begins_at}
        record = logging.makeLogRecord({"msg": json.dumps(head)})
        self.emit(record)
