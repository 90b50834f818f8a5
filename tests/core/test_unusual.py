"""Which runs are unlike those before them."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from pinecart.core.unusual import LATEST, LEAST, Came, unusual_of

SATURDAY = datetime(2026, 3, 7, 6, tzinfo=UTC)
COUNTS = st.lists(st.integers(0, 500), min_size=LEAST, max_size=LATEST)


def nights(counts, *, seconds=600.0):
    """One each night up to the one before that Saturday, the newest first."""
    return [
        Came(SATURDAY - timedelta(days=n), files, files << 20, 0, seconds)
        for n, files in enumerate(counts, 1)
    ]


def tonight(files, *, removed=0, seconds=600.0):
    return Came(SATURDAY, files, files << 20, removed, seconds)


def test_what_is_far_from_all_that_was_is_said_with_what_was():
    before = nights([240 + n % 7 for n in range(30)])
    assert unusual_of(tonight(3), before) == [
        "It carried 3 files; its last 30 runs usually 240 to 246 files."
    ]
    said = unusual_of(tonight(243, removed=90, seconds=9 * 3600), before)
    assert said == [
        "It removed 90 files; its last 30 runs usually 0 files.",
        "It took 9 h 0 min; its last 30 runs usually 10 min.",
    ]
    assert not unusual_of(tonight(243, seconds=None), before), "it waited for a person"
    assert not unusual_of(tonight(3), before[: LEAST - 1]), "too few are known"


def test_one_odd_run_hides_no_other_and_bursts_or_weekends_are_usual():
    steady = [240 + n % 7 for n in range(30)]
    assert unusual_of(tonight(5000), nights([5000, *steady]))
    bursts = [200 if n % 5 == 2 else 0 for n in range(LATEST)]
    assert not unusual_of(tonight(190), nights(bursts))
    weekends = [0 if (SATURDAY - timedelta(days=n)).weekday() > 4 else 300 for n in range(1, 41)]
    assert not unusual_of(tonight(0), nights(weekends))


@given(counts=COUNTS, data=st.data())
def test_nothing_between_the_usual_ends_is_unusual_in_whatever_order(counts, data):
    value = data.draw(st.integers(min(counts), max(counts)))
    inside = sorted(counts)[2:-2]
    if inside and inside[0] <= value <= inside[-1]:
        assert not [s for s in unusual_of(tonight(value), nights(counts)) if "carried" in s]
    shuffled = data.draw(st.permutations(nights(counts)))
    assert unusual_of(tonight(value), nights(counts)) == unusual_of(tonight(value), shuffled)
