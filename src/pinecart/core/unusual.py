"""Whether a run is unlike those of its job before it: by medians, which single odd runs don't move,
said in words.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from statistics import median
from typing import NamedTuple

from pinecart.core.totals import files_text, size_text, span_text

LATEST = 40  # runs before it that it is compared with
LEAST = 10  # of them, without which nothing is said
LEAST_OF_DAY = 4  # of its day of the week, with which it has to be unlike these as well
FAR = 5.0  # spreads from the median
SPREAD = 1.4826  # median deviations in a standard deviation, where a distribution is normal
NARROWEST = 0.1  # of the median: a spread is at least so much
ODD = 0.05  # of the runs before may have been as far out


class Came(NamedTuple):
    """What a run came to. files, bytes: carried.   seconds: None where it waited for a person."""

    ended_at: datetime
    files: int
    bytes: int
    removed: int
    seconds: float | None


class _Measure(NamedTuple):
    """least: the narrowest spread, in its unit.   of: None: the run tells nothing of it."""

    words: str
    of: Callable[[Came], float | None]
    least: float
    text: Callable[[float], str]


def _files(count: float) -> str:
    return files_text(int(count))


def _bytes(count: float) -> str:
    return size_text(int(count))


MEASURES = (
    _Measure("carried", lambda came: came.files, 3, _files),
    _Measure("carried", lambda came: came.bytes, 1 << 20, _bytes),
    _Measure("removed", lambda came: came.removed, 3, _files),
    _Measure("took", lambda came: came.seconds, 30, span_text),
)


def unusual_of(run: Came, before: Sequence[Came]) -> list[str]:
    """A sentence for each thing that is unusual; none while too few runs are known."""
    weekday = run.ended_at.weekday()
    of_its_day = [one for one in before if one.ended_at.weekday() == weekday]
    found: dict[str, str] = {}
    for measure in MEASURES:
        value = measure.of(run)
        known = _known(measure, before)
        if value is None or len(known) < LEAST:
            continue
        that_day = _known(measure, of_its_day)
        is_usual = not _is_far(value, known, measure.least)
        if len(that_day) >= LEAST_OF_DAY and not is_usual:
            is_usual = not _is_far(value, that_day, measure.least)
        if is_usual:
            continue
        least, most = map(measure.text, _range(known))
        usual = _between(least, most)
        told = f"It {measure.words} {measure.text(value)}"
        words = f"{told}; its last {len(known)} runs usually {usual}."
        found.setdefault(measure.words, words)
    return list(found.values())


def _between(least: str, most: str) -> str:
    """`240 to 246 files`: the unit once, where it is the same."""
    count, _, unit = least.rpartition(" ")
    if least == most:
        return most
    same = most.endswith(f" {unit}") and " " not in count
    return f"{count if same else least} to {most}"


def _known(measure: _Measure, runs: Sequence[Came]) -> list[float]:
    return sorted(value for run in runs if (value := measure.of(run)) is not None)


def _is_far(value: float, ordered: Sequence[float], narrowest: float) -> bool:
    """From the median by many spreads, and further out than all but very few of them."""
    middle = median(ordered)
    away = [abs(one - middle) for one in ordered]
    spread = max(SPREAD * median(away), NARROWEST * middle, narrowest)
    if abs(value - middle) <= FAR * spread:
        return False
    least, most = _range(ordered)
    return not least <= value <= most


def _range(ordered: Sequence[float]) -> tuple[float, float]:
    """Between which all but the oddest of both ends lie."""
    cut = int(ODD * len(ordered))
    return ordered[cut], ordered[len(ordered) - 1 - cut]
