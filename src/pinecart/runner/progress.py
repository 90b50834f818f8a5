"""What a run tells while it works: phases, done and to do, the rate of the last five seconds, the time left."""

from __future__ import annotations

import time
from collections import deque
from typing import Any

from pinecart.core.places import show

RATE_S = 5.0
SHOWN_IN_FLIGHT = 6


class Progress:
    """Counters of one run, updated from its one event loop."""

    def __init__(self) -> None:
        self.phases: list[str] = []
        self.listed = self.same = 0
        self.listing_complete = False
        self.planned_objects = self.planned_bytes = 0
        self.done_objects = self.done_bytes = self.problems = 0
        self._in_flight: dict[bytes, int] = {}
        self._passed: deque[tuple[float, int, int]] = deque([(time.monotonic(), 0, 0)])

    def start(self, key: bytes, size: int) -> None:
        self._in_flight[key] = size

    def end(self, key: bytes, size: int) -> None:
        self._in_flight.pop(key, None)
        self.done_objects += 1
        self.done_bytes += size

    def snapshot(self) -> dict[str, Any]:
        """JSON. rate_bytes: per second over the last 5 s. seconds_left: None until it can be told."""
        now = time.monotonic()
        self._passed.append((now, self.done_bytes, self.done_objects))
        while self._passed[0][0] < now - RATE_S and len(self._passed) > 2:
            self._passed.popleft()
        then, size, objects = self._passed[0]
        span = max(now - then, 0.001)
        rate, pace = (self.done_bytes - size) / span, (self.done_objects - objects) / span
        left_objects = self.planned_objects - self.done_objects
        left_bytes = self.planned_bytes - self.done_bytes
        waits = [left / speed for left, speed in ((left_objects, pace), (left_bytes, rate)) if speed > 0]
        return {
            "phases": self.phases, "listed": self.listed, "unchanged": self.same, "listing_complete": self.listing_complete,
            "planned": {"objects": self.planned_objects, "bytes": self.planned_bytes},
            "done": {"objects": self.done_objects, "bytes": self.done_bytes}, "problems": self.problems,
            "in_flight": [{"key": show(k), "bytes": s} for k, s in list(self._in_flight.items())[:SHOWN_IN_FLIGHT]],
            "rate_bytes": round(rate), "rate_objects": round(pace, 2),
            "seconds_left": round(max(waits), 1) if waits and left_objects else None,
        }  # fmt: skip
