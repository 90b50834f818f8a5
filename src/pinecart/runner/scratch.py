"""Where a run puts down what doesn't fit in memory."""

from __future__ import annotations

from typing import NamedTuple


class Scratch(NamedTuple):
    """folder: on a disk of ours.   sort_rows: so many are sorted in memory at a time."""

    folder: str
    sort_rows: int = 100_000
