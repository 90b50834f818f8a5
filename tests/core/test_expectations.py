"""What is expected, and when it counts as not come; and what a message says."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from pinecart.core.definition_reading import read_definition
from pinecart.core.errors import Invalid
from pinecart.core.expectations import LastRun, expected_of, unmet_of
from pinecart.core.happenings import (
    LONGEST_WAIT,
    Happening,
    Kind,
    kind_of_run,
    next_wait,
    subject_of,
    text_of,
)

NOW = datetime(2026, 3, 30, 6, 30, tzinfo=UTC)
HOUR = timedelta(hours=1)


def unmet(expected, *, last_new=NOW, last=None, was_due=True, now=NOW):
    found = unmet_of("d", expected, now=now, last_new=last_new, last=last, was_due=was_due)
    return [(one.kind.value, one.id) for one in found]


def test_nothing_new_is_told_once_for_each_time_that_it_is_awaited():
    expected = expected_of("2 days", "", "", "UTC")
    since = NOW - timedelta(days=2)
    assert unmet(expected, last_new=since) == []
    first = unmet(expected, last_new=since - HOUR)
    assert first == unmet(expected, last_new=since - HOUR, now=NOW + timedelta(days=9))
    assert first != unmet(expected, last_new=since - 2 * HOUR)


@pytest.mark.parametrize(
    ("last", "was_due", "late"),
    [
        (None, True, True),
        (None, False, False),
        (LastRun(7, NOW - HOUR, 3, True), True, False),
        (LastRun(7, NOW - HOUR, 3, False), True, True),
        (LastRun(7, NOW - 26 * HOUR, 3, True), True, True),
    ],
)
def test_done_by_goes_by_the_clock_of_the_schedule(last, was_due, late):
    expected = expected_of("", "06:00", "", "Europe/London")  # 05:00 UTC on this day
    found = unmet(expected, last=last, was_due=was_due)
    assert found == ([("late", "late:d:20260330")] if late else [])
    early = unmet(expected, now=NOW - 2 * HOUR)
    assert early == [("late", "late:d:20260329")]


def test_too_few_and_too_many_files_are_told():
    expected = expected_of("", "", "300-500", "UTC")
    for carried, is_unmet in ((299, True), (300, False), (500, False), (501, True)):
        found = unmet(expected, last=LastRun(9, NOW, carried, True))
        assert found == ([("expected-not-come", "amount:9")] if is_unmet else [])


def test_what_is_no_expectation_is_refused():
    leg = {"from": "pine://a/", "to": "pine://b/"}
    given = {"expect_new": "often", "expect_by": "25:00", "expect_files": "9-3"}
    with pytest.raises(Invalid) as caught:
        read_definition({"job": "d", "legs": [leg], **given})
    assert [p["code"] for p in caught.value.problems] == ["job.expectation"] * 3


def test_what_a_run_came_to_tells_what_people_hear_of():
    assert kind_of_run("held", "", "") is Kind.HELD
    assert kind_of_run("ended", "skipped", "") is Kind.MISSED
    assert kind_of_run("ended", "clean", "failed") is Kind.RECOVERED
    assert kind_of_run("ended", "nothing-to-do", "clean") is Kind.DONE
    assert kind_of_run("ended", "problems", "clean") is Kind.PROBLEMS
    assert kind_of_run("working", "", "") is None and kind_of_run("ended", "stopped", "") is None


def test_a_message_says_what_happened_where_to_look_and_what_to_do():
    one = Happening("run-3-failed", Kind.FAILED, "dawn", 3, NOW, "The bucket is gone.", "/runs/3")
    other = one._replace(id="run-4-held", kind=Kind.HELD)
    assert subject_of([one]) == "✗ failed: dawn, run 3"
    assert subject_of([one, other]) == "2 things happened: ✗ failed, ◆ waiting for your yes"
    text = text_of([one, other], "https://cart.example")
    for words in ("The bucket is gone.", "https://cart.example/runs/3", "Do: Look at the reason"):
        assert words in text
    assert text.index("run-3-failed") < text.index("run-4-held")


def test_waits_grow_and_end_growing():
    waits = [next_wait(tries) for tries in range(1, 30)]
    assert waits == sorted(waits) and waits[-1] == LONGEST_WAIT and waits[0] < timedelta(minutes=1)
