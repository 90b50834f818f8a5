"""What a run tells while it works: phases, done and to do, the rate of the last five seconds, the
time left.
"""

from __future__ import annotations

import time
from collections import deque
from typing import NamedTuple

from pinecart.core.lifecycle import Phase
from pinecart.core.places import show
from pinecart.json_object import JsonObject

RATE_S = 5.0
SHOWN_IN_FLIGHT = 6
MOST_POINTS = 240  # of a course
FORGET = 0.97  # what was learned of the pace weighs 3 % less with each lesson


class Pace:
    """Seconds an object and seconds a byte, learned together: time = a·objects + b·bytes by least
    squares, a and b ≥ 0.

    Either alone misleads: small files first make bytes look slow, large ones first make files look
    slow.
    """

    def __init__(self) -> None:
        self._last: tuple[float, int, int] | None = None
        self._oo = self._ob = self._bb = self._ot = self._bt = 0.0

    def learn(self, now: float, objects: int, size: int) -> None:
        if self._last is not None:
            then, had_objects, had_bytes = self._last
            if objects == had_objects and size == had_bytes:
                return
            t = now - then
            o = objects - had_objects
            b = (size - had_bytes) / 1e6
            self._oo = self._oo * FORGET + o * o
            self._ob = self._ob * FORGET + o * b
            self._bb = self._bb * FORGET + b * b
            self._ot = self._ot * FORGET + o * t
            self._bt = self._bt * FORGET + b * t
        self._last = (now, objects, size)

    def seconds_for(self, objects: int, size: int) -> float | None:
        """None until something has been learned."""
        if not self._oo:
            return None
        oo = self._oo
        ob = self._ob
        bb = self._bb
        ot = self._ot
        bt = self._bt
        a = ot / oo
        b = 0.0
        squares = oo * bb
        whole = squares - ob * ob
        if whole > 1e-6 * squares:
            both_a = (ot * bb - bt * ob) / whole
            both_b = (bt * oo - ot * ob) / whole
            if min(both_a, both_b) >= 0:
                a = both_a
                b = both_b
            elif both_a < 0:
                a = 0.0
                b = bt / bb
        megabytes = size / 1e6
        return round(a * objects + b * megabytes, 1)


class Point(NamedTuple):
    """How far a run was, so many seconds after it began."""

    seconds: float
    bytes: int
    objects: int


class Course:
    """How a run went along: ever sparser points, so that there are never too many."""

    def __init__(self) -> None:
        self._begun = time.monotonic()
        self._apart_s = 0.5
        self.points: list[Point] = [Point(0.0, 0, 0)]

    def note(self, size: int, objects: int) -> None:
        seconds = time.monotonic() - self._begun
        if seconds - self.points[-1].seconds < self._apart_s:
            return
        self.points.append(Point(round(seconds, 2), size, objects))
        if len(self.points) > MOST_POINTS:
            self.points = self.points[::2]
            self._apart_s *= 2

    def whole(self, size: int, objects: int) -> tuple[Point, ...]:
        """To its end."""
        end = Point(round(time.monotonic() - self._begun, 2), size, objects)
        return (*self.points, end)


class Progress:
    """Counters of one run, updated from its one event loop."""

    def __init__(self) -> None:
        self.phases: list[str] = []  # the last one: where it is
        self._phase_s: dict[str, float] = {}
        self._entered = time.monotonic()
        self.listed = self.same = 0
        self.listing_complete = False
        self.planned_objects = self.planned_bytes = 0
        self.done_objects = self.done_bytes = self.problems = 0
        self.waits_for = ""  # what nothing moves for, in words
        self._in_flight: dict[bytes, int] = {}
        self._moved: dict[bytes, int] = {}  # bytes of what is in flight that count already
        self._pace = Pace()
        self._course = Course()
        begun = (time.monotonic(), 0, 0)
        self._passed: deque[tuple[float, int, int]] = deque([begun])

    def signs_of_life(self) -> tuple[int, ...]:
        """Other numbers than before: something got further."""
        return (
            self.listed,
            self.same,
            self.planned_objects,
            self.done_objects,
            self.done_bytes,
            self.problems,
        )

    def start_over(self) -> None:
        """A new plan: only what is done still counts."""
        self.listed = self.same = 0
        self.listing_complete = False
        self.planned_objects = self.done_objects
        self.planned_bytes = self.done_bytes

    def enter(self, phase: Phase) -> bool:
        """False: it is there already."""
        if self.phases[-1:] == [phase.value]:
            return False
        self._phase_s = self.seconds_by_phase()
        self._entered = time.monotonic()
        self.phases = [p for p in self.phases if p != phase.value] + [phase.value]
        return True

    def seconds_by_phase(self) -> dict[str, float]:
        """Up to now."""
        spent = dict(self._phase_s)
        if self.phases:
            now_in = self.phases[-1]
            spent[now_in] = spent.get(now_in, 0.0) + time.monotonic() - self._entered
        return spent

    def start(self, key: bytes, size: int) -> None:
        self._in_flight[key] = size

    def moved(self, key: bytes, size: int) -> None:
        """So much more of an object that is in flight has come."""
        if key in self._in_flight:
            self._moved[key] = self._moved.get(key, 0) + size
            self.done_bytes += size

    def again(self, key: bytes) -> None:
        """It begins anew: what had come of it no longer counts."""
        self.done_bytes -= self._moved.pop(key, 0)

    def end(self, key: bytes, size: int) -> None:
        """It is there; what was told of its tries before counts no more."""
        self.again(key)
        self._in_flight.pop(key, None)
        self.done_objects += 1
        self.done_bytes += size

    def course(self) -> tuple[Point, ...]:
        return self._course.whole(self.done_bytes, self.done_objects)

    def snapshot(self) -> JsonObject:
        """JSON.

        rate_bytes: per second over the last 5 s. seconds_left: None until it can be told.
        """
        now = time.monotonic()
        self._course.note(self.done_bytes, self.done_objects)
        self._passed.append((now, self.done_bytes, self.done_objects))
        while self._passed[0][0] < now - RATE_S and len(self._passed) > 2:
            self._passed.popleft()
        then, size, objects = self._passed[0]
        span = max(now - then, 0.001)
        rate = (self.done_bytes - size) / span
        pace = (self.done_objects - objects) / span
        left_objects = self.planned_objects - self.done_objects
        left_bytes = self.planned_bytes - self.done_bytes
        self._pace.learn(now, self.done_objects, self.done_bytes)
        return {
            "phases": self.phases,
            "listed": self.listed,
            "unchanged": self.same,
            "listing_complete": self.listing_complete,
            "planned": {"objects": self.planned_objects, "bytes": self.planned_bytes},
            "done": {"objects": self.done_objects, "bytes": self.done_bytes},
            "problems": self.problems,
            "in_flight": [
                {"key": show(k), "bytes": s}
                for k, s in list(self._in_flight.items())[:SHOWN_IN_FLIGHT]
            ],
            "rate_bytes": round(rate),
            "rate_objects": round(pace, 2),
            "waits_for": self.waits_for,
            "seconds_left": self._pace.seconds_for(left_objects, left_bytes)
            if left_objects
            else None,
        }
