"""How long to wait before trying again: growing, jittered, and never less than the other side asked for."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple


class Retry(NamedTuple):
    """times: tries in all.   first_s: the first wait, doubled each time up to longest_s."""

    times: int = 5
    first_s: float = 0.2
    longest_s: float = 20.0

    def wait_s(self, tried: int, asked_s: float | None, random: Callable[[], float]) -> float:
        """Seconds before the next try, after `tried` tries. random: gives [0, 1)."""
        grown = min(self.first_s * 2 ** (tried - 1), self.longest_s)
        return max(asked_s or 0.0, grown * (0.5 + random() / 2))
