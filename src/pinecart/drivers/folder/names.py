"""What a file system does to names and times, found by asking it for other spellings of a name."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable
from typing import NamedTuple

from pinecart.core.folding import EXACT, TELLING, Folding, other_spellings

_ODD_NS = 1_999_999_999  # what a file system with a coarser clock can't keep
LOOKED_AT = 1000


class Habits(NamedTuple):
    """time_step_ns: times that are nearer than this may be the same time.   asked: by writing, not
    only by looking.
    """

    folding: Folding = EXACT
    time_step_ns: int = 0
    asked: bool = False


def by_scratch(fd: int, hidden: bytes) -> Habits:
    """Make a file of our own, ask for it under its other spellings, and take it away.

    Raises OSError where that can't be done.
    """
    name = hidden + TELLING.encode() + b".part"
    os.close(
        os.open(
            name,
            os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC,
            0o600,
            dir_fd=fd,
        )
    )
    try:
        os.utime(name, ns=(_ODD_NS, _ODD_NS), dir_fd=fd)
        lost = abs(_ODD_NS - os.stat(name, dir_fd=fd).st_mtime_ns)
        return Habits(by_names([(fd, name)]), lost + 1 if lost else 0, asked=True)
    finally:
        with contextlib.suppress(FileNotFoundError):
            os.unlink(name, dir_fd=fd)


def by_names(names: Iterable[tuple[int, bytes]]) -> Folding:
    """The same from names that are there, in folders opened as these descriptors; what none of them
    tells is taken for exact.
    """
    told: dict[str, bool] = {}
    for fd, name in names:
        for rule, spellings in other_spellings(name).items():
            if rule not in told:
                told[rule] = any(_found_unlisted(fd, other) for other in spellings)
        if len(told) == len(Folding._fields):
            break
    return Folding(**told)


def _found_unlisted(fd: int, other: bytes) -> bool:
    """Whether a name is answered that no listing shows.

    (Inodes don't tell: some file systems give each spelling its own.)
    """
    try:
        os.stat(other, dir_fd=fd, follow_symlinks=False)
    except OSError:
        return False
    return os.fsdecode(other) not in os.listdir(fd)
