"""How long to wait before trying again: growing, jittered, and never less than the other side asked
for.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple


class Retry(NamedTuple):
    """times: tries at least.   for_s: and so long, so that a store may be away for a while.
    first_s: the first wait, doubled each time up to longest_s.   most_asked_s: longer than this
    nobody's wish to wait is heard.
    """

    times: int = 5
    first_s: float = 0.2
    longest_s: float = 30.0
    for_s: float = 0.0
    most_asked_s: float = 300.0

    def is_over(self, tried: int, seconds: float) -> bool:
        """Whether to give up, after so many tries in so many seconds."""
        return tried >= self.times and seconds >= self.for_s

    def wait_s(self, tried: int, asked_s: float | None, random: Callable[[], float]) -> float:
        """Seconds before the next try, after `tried` tries. random: gives [0, 1)."""
        grown = min(self.first_s * 2 ** (tried - 1), self.longest_s)
        return max(min(asked_s or 0.0, self.most_asked_s), grown * (0.5 + random() / 2))
