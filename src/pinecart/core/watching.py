"""Whether what was found at a watched source is reason enough to start a run.

Each file is a number: a digest of its name and fingerprint. What was not there, as it is now, when
the last run was started is fresh. What still grows gets another digest at each look, so it never
comes to rest.
"""

from __future__ import annotations

from array import array
from collections.abc import Mapping
from typing import NamedTuple

from pinecart.core.digests import NUMBERS

PATIENCE_S = 4.0  # what has settled waits so long for the rest of its burst


class SourceLook(NamedTuple):
    """What one look found.

    digests: of all that the job takes, in order.   fresh: those that were not known.   at_rest: of
    the fresh, those whose own time says that they have been left alone.   gone: so many of those
    known are there no more.   of_age_in_s: until the next file is old enough to be taken; None:
    there is none.
    """

    digests: array[int]
    fresh: frozenset[int]
    at_rest: frozenset[int] = frozenset()
    gone: int = 0
    of_age_in_s: float | None = None


class Pending(NamedTuple):
    """What was noticed, and no run was started for it yet.

    seen_at: of each fresh file when it was first seen as it is.   settled_at: since when it is
    settled.   gone, gone_at: so many are gone, and since when it is that many. Times: in seconds.
    """

    seen_at: Mapping[int, float] = {}
    settled_at: Mapping[int, float] = {}
    gone: int = 0
    gone_at: float = 0.0

    @property
    def growing(self) -> int:
        return len(self.seen_at) - len(self.settled_at)


class Judged(NamedTuple):
    """is_ready: a run is to be started now.   look_in_s: the next look, at the latest; None: no
    sooner than usual.
    """

    pending: Pending
    is_ready: bool
    look_in_s: float | None


def judge(
    seen: SourceLook, before: Pending, now_s: float, settled_s: float, *, counts_gone: bool
) -> Judged:
    """counts_gone: what is no longer there is reason enough."""
    seen_at = {digest: before.seen_at.get(digest, now_s) for digest in seen.fresh}
    settled_at = {
        digest: before.settled_at.get(digest, now_s)
        for digest, since in seen_at.items()
        if digest in seen.at_rest or now_s - since >= settled_s
    }
    gone = seen.gone if counts_gone else 0
    gone_at = before.gone_at if gone == before.gone else now_s
    pending = Pending(seen_at, settled_at, gone, gone_at)
    is_ready = _is_ready(pending, now_s, settled_s)
    waits = None if is_ready else _waits_s(pending, now_s, settled_s)
    later = [wait for wait in (waits, seen.of_age_in_s) if wait is not None]
    return Judged(pending, is_ready, min(later, default=None))


def _is_ready(pending: Pending, now_s: float, settled_s: float) -> bool:
    """Something has settled, or is gone for long enough; what still grows isn't waited for long."""
    if pending.settled_at:
        waited_s = now_s - min(pending.settled_at.values())
        return not pending.growing or waited_s >= PATIENCE_S
    if pending.growing or not pending.gone:
        return False
    gone_s = now_s - pending.gone_at
    return gone_s >= settled_s


def _waits_s(pending: Pending, now_s: float, settled_s: float) -> float | None:
    """Until something may have become ready; None: nothing is pending."""
    due = []
    if pending.growing:
        due.append(now_s + settled_s / 2)
    if pending.settled_at:
        first = min(pending.settled_at.values())
        due.append(first + PATIENCE_S)
    if pending.gone:
        due.append(pending.gone_at + settled_s)
    if not due:
        return None
    return max(min(due) - now_s, 0.5)


def known_after(seen: SourceLook, pending: Pending) -> array[int]:
    """What is known once a run was started: all but what still grows."""
    growing = pending.seen_at.keys() - pending.settled_at.keys()
    return array(NUMBERS, (digest for digest in seen.digests if digest not in growing))
