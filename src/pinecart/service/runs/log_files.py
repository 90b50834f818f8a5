"""Reading a run's log, which is one sequence of lines in several files: the oldest have gone when
there were too many.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import BinaryIO, NamedTuple

from pinecart.json_object import JsonObject
from pinecart.service.config.settings import STATE

LEVELS = ("info", "warning", "error")
MOST_READ = 8 << 20  # bytes of a log, in one call: another goes on after them
NAME = "log.jsonl"


class LogPiece(NamedTuple):
    """One file, opened. begin, end: where it stands in the whole, in bytes."""

    log: BinaryIO
    begin: int
    end: int


def begin_of(file: Path) -> int:
    """Where a file begins in the whole log, in bytes: its first line tells it."""
    try:
        with file.open("rb") as log:
            return _begin_told(log)
    except OSError:
        return 0


def _begin_told(log: BinaryIO) -> int:
    try:
        first = json.loads(log.readline() or b"{}")
    except ValueError:
        return 0
    return int(first.get("begins_at", 0))


def files_of(run: int) -> list[Path]:
    """The oldest first."""
    newest = STATE.run_file(run, NAME)
    before = newest.parent.glob(f"{newest.name}.*")
    files = sorted(before, key=lambda file: int(file.suffix[1:]), reverse=True)
    if newest.exists():
        files.append(newest)
    return files


def log_after(
    run: int, after: int, limit: int, level: str = "info", text: str = ""
) -> tuple[list[JsonObject], int]:
    """Whole lines of a run's log from where `after` stands (0: the first), and where to go on.

    level: lines of it or a worse one.   text: is in the line, whatever its case.
    """
    lines: list[JsonObject] = []
    wanted = LEVELS[LEVELS.index(level) :]
    sought = text.casefold()
    begun = after
    with _opened(run) as pieces:
        for piece in pieces:
            if after >= piece.end or len(lines) >= limit or after - begun > MOST_READ:
                continue
            after = max(after, piece.begin)
            begun = max(begun, piece.begin)
            for line in _lines_from(piece, after):
                after += len(line)
                told = json.loads(line)
                fits = not sought or sought in line.decode().casefold()
                if fits and told.get("level", "info") in wanted and "begins_at" not in told:
                    lines.append(told)
                if len(lines) >= limit or after - begun > MOST_READ:
                    break
    return lines, after


def log_pieces(run: int) -> Iterator[bytes]:
    """The whole of it, as it is now."""
    with _opened(run) as pieces:
        for piece in pieces:
            for line in _lines_from(piece, piece.begin):
                if b'"begins_at"' not in line:
                    yield line


@contextmanager
def _opened(run: int) -> Iterator[list[LogPiece]]:
    """All files at once, in their order: from here on their names may change."""
    with ExitStack() as open_files:
        found: dict[int, LogPiece] = {}
        for file in reversed(files_of(run)):  # the newest first: none is missed that moves on
            try:
                log = open_files.enter_context(file.open("rb"))
            except FileNotFoundError:
                continue
            begin = _begin_told(log)
            found[begin] = LogPiece(log, begin, begin + os.fstat(log.fileno()).st_size)
        yield [found[begin] for begin in sorted(found)]


def _lines_from(piece: LogPiece, at: int) -> Iterator[bytes]:
    """Whole lines. Within a line nobody was told to go on: that one is passed over."""
    log = piece.log
    log.seek(max(at - piece.begin - 1, 0))
    if at > piece.begin and log.read(1) != b"\n":
        log.readline()
    for line in log:
        if not line.endswith(b"\n"):
            return
        yield line
