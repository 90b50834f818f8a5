"""What a leg is to do, as far as it isn't done while the plan is made."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from typing import IO

from pinecart.core.guards import Counts

NOTHING_SEEN = Counts(0, 0, 0)


@dataclass
class Plan:
    """Filled by the planner; whole once it hands it on.

    decisions: a scratch file of what waits for the whole plan; what is new was handed on at once.
    counts: what the guards ask about.
    far_objects, far_bytes: what the far side held when it was listed.
    changed_there: far objects that are not as remembered, and are left so.
    hole: a folder of the source that can't be entered: what lies in it seems gone, and isn't.
    made_at: when its listing was complete, by the monotonic clock.
    """

    decisions: IO[str]
    counts: Counts = NOTHING_SEEN
    far_objects: int = 0
    far_bytes: int = 0
    changed_there: int = 0
    hole: bytes = b""
    made_at: float = field(default_factory=time.monotonic)

    def count(
        self, *, removals: int = 0, foreign: int = 0, replaced: int = 0, lost: int = 0
    ) -> None:
        """So many more of what a guard asks about."""
        counts = self.counts
        self.counts = counts._replace(
            removals=counts.removals + removals,
            foreign=counts.foreign + foreign,
            replacements=counts.replacements + replaced,
            missing=counts.missing + lost,
        )
