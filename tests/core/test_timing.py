"""When jobs start by themselves: in words and back, again and again, once, in allowed hours."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from pinecart.core.dated_places import filled
from pinecart.core.definition_reading import read_definition
from pinecart.core.errors import Invalid
from pinecart.core.hours import parse_hours
from pinecart.core.schedule_words import cron_of, in_words
from pinecart.core.triggers import TriggerState, read_trigger

NOW = datetime(2026, 3, 2, 5, 30, tzinfo=UTC)
FRESH = TriggerState()


@pytest.mark.parametrize(
    ("words", "cron", "told"),
    [
        ("weekdays 05:30", "30 5 * * 1-5", "on weekdays at 05:30"),
        ("Every day at 5:30", "30 5 * * *", "every day at 05:30"),
        ("Mondays and Thursdays at 6:00", "0 6 * * 1,4", "on Mondays and Thursdays at 06:00"),
        ("weekends 9.00", "0 9 * * 6,0", "on Saturdays and Sundays at 09:00"),
        ("daily 05:30 and 17:30", "30 5,17 * * *", "every day at 05:30 and 17:30"),
        ("first of the month 02:00", "0 2 1 * *", "on day 1 of each month at 02:00"),
        ("last day of the month 22:00", "0 22 L * *", "on the last day of each month at 22:00"),
        ("every 20 minutes", "*/20 * * * *", "every 20 minutes"),
        ("every minute", "* * * * *", "every minute"),
        ("every 6 hours", "0 */6 * * *", "every 6 hours, 0 min past"),
    ],
)
def test_words_are_a_schedule_and_a_schedule_is_told_in_words(words, cron, told):
    assert cron_of(words) == cron
    assert in_words(cron, "Europe/London") == f"{told}, London time"
    trigger = read_trigger({"cron": words, "zone": "Europe/London"})
    assert trigger.as_mapping() == {"cron": cron, "zone": "Europe/London"}


@pytest.mark.parametrize(
    "words", ["every 7 minutes", "25:00", "05:30 and 17:45", "nonsense 05:30", "", "5 4 1-7 * 1"]
)
def test_what_is_no_words_of_a_schedule_is_not_guessed(words):
    assert cron_of(words) is None


def test_a_rare_expression_is_told_by_its_fields():
    assert in_words("5 4 1-7 * 1", "UTC") == "at the cron times 5 4 1-7 * 1, UTC"


def test_again_and_again_is_counted_by_time_that_passes():
    trigger = read_trigger({"kind": "every", "every": "90 minutes"})
    first = trigger.due(NOW, FRESH)
    assert first == NOW + timedelta(minutes=90)
    late = first + timedelta(hours=10)
    assert trigger.due(late, TriggerState(first)) == first + timedelta(minutes=90 * 7)
    begun = read_trigger({"kind": "every", "every": "1 day", "starting": "2026-03-28 05:30"})
    assert begun.due(NOW, FRESH) == datetime(2026, 3, 28, 5, 30, tzinfo=UTC)
    assert begun.due(datetime(2026, 4, 1, 6, tzinfo=UTC), FRESH).day == 2
    assert read_trigger(begun.as_mapping()) == begun


def test_once_is_once():
    trigger = read_trigger({"kind": "once", "at": "2026-03-29 01:30", "zone": "Europe/Berlin"})
    due = trigger.due(NOW, FRESH)
    assert due == datetime(2026, 3, 29, 0, 30, tzinfo=UTC)
    assert trigger.due(due, TriggerState(due)) is None
    assert read_trigger(trigger.as_mapping()) == trigger


@pytest.mark.parametrize(
    ("given", "words"),
    [
        ({"kind": "every", "every": "10 seconds"}, "write an age"),
        ({"kind": "every", "every": "0 minutes"}, "too often"),
        ({"kind": "once", "at": "soon"}, "is no time"),
        ({"kind": "once"}, "Say when"),
        ({"kind": "once", "at": "2026-03-29 01:30", "zone": "Moon"}, "no time zone"),
        ({"cron": "weekdays noon"}, "Write it in words"),
    ],
)
def test_a_trigger_that_cant_be_is_refused(given, words):
    with pytest.raises(Invalid, match=words):
        read_trigger(given)


@pytest.mark.parametrize(
    ("text", "inside", "outside"),
    [
        ("22:00-06:00", [22, 23, 0, 5], [6, 12, 21]),
        ("08:00 - 17:00", [8, 16], [17, 7, 0]),
        ("00:00-24:00", [0, 23], []),
    ],
)
def test_hours_may_be_over_midnight(text, inside, outside):
    hours = parse_hours(text)
    at = [NOW.replace(hour=hour, minute=0) for hour in range(24)]
    assert all(hours.include(at[hour]) for hour in inside)
    assert not any(hours.include(at[hour]) for hour in outside)


def test_hours_are_of_their_zone():
    hours = parse_hours("08:00-09:00 America/New_York")
    assert hours.include(datetime(2026, 3, 2, 13, 30, tzinfo=UTC))
    for odd in ("8-9", "25:00-26:00", "08:00-08:00", "08:00-09:00 Nowhere"):
        with pytest.raises(Invalid):
            parse_hours(odd)


def test_the_timing_of_a_job_is_told_and_kept():
    leg = {"from": "pine://posts/", "to": "pine://office/"}
    more = {"hours": "22:00-06:00", "overlap": "wait", "catch_up": "each", "spread": "10 minutes"}
    made = read_definition({"job": "dawn", "legs": [leg], **more})
    assert {name: made.as_mapping()[name] for name in more} == more
    assert made.spread_s == 600
    plain = read_definition({"job": "dawn", "legs": [leg]})
    assert not more.keys() & plain.as_mapping().keys()


def test_places_are_filled_in_by_the_clock_of_the_schedules_zone():
    leg = {"from": "pine://posts/{day}/", "to": "pine://office/{year}/{month}/w{week}-{hour}/"}
    schedule = {"cron": "30 5 * * *", "zone": "Pacific/Auckland"}
    made = read_definition({"job": "dawn", "legs": [leg], "schedule": schedule})
    (one,) = filled(made, datetime(2026, 12, 31, 20, 5, tzinfo=UTC)).legs
    assert one.source.text == "pine://posts/01/"
    assert one.target.text == "pine://office/2027/01/w53-09/"
    plain = read_definition({"job": "dawn", "legs": [leg | {"from": "pine://posts/{x}/"}]})
    assert filled(plain, NOW).legs[0].source.text == "pine://posts/{x}/"
