"""Places, patterns, listings, schedules, definitions, states: the small rules of core."""

from __future__ import annotations

import base64
from contextlib import suppress
from datetime import UTC, datetime

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from pinecart.core.checksum import combine, crc_of
from pinecart.core.columns import EntryPage, Rows
from pinecart.core.definition_reading import job_keys, leg_keys, read_definition
from pinecart.core.entries import (
    Entry,
    Likeness,
    Row,
    fingerprint,
    is_racy,
    likeness,
    modified_ns_of,
    size_of,
)
from pinecart.core.errors import Incomplete, Invalid, WrongMoment
from pinecart.core.lifecycle import NEXT, Event, RunState, advance
from pinecart.core.listing import Ascending, Merge
from pinecart.core.places import Location, key_fields, key_of_text, parse_location, show
from pinecart.core.schedule import parse_schedule
from pinecart.core.selection import compile_selection
from pinecart.core.sentences import sentences
from pinecart.core.totals import MARKS, no_totals, outcome_of, sentence, size_text

LEG = {"from": "pine://posts/", "to": "pine://office/dawn"}


def test_a_location_keeps_its_path_as_it_is_written():
    assert parse_location("pine://office/a%20b/?x#y").path == b"a%20b/?x#y"
    assert parse_location("pine://office").path == b""
    assert str(parse_location("pine://office/2026").as_prefix()) == "pine://office/2026/"
    for bad in ("office/x", "pine:///x", "pine://Office/x", "pine://a//x", "s3://office/x"):
        with pytest.raises(Invalid, match=r"location|store|path"):
            parse_location(bad)


@given(st.binary(min_size=1))
def test_a_key_can_be_told_from_what_is_shown(key):
    fields = key_fields(key)
    assert "\n" not in fields["key"] and "\u202e" not in fields["key"]
    assert key_of_text(fields["key_id"]) == key
    fields["key_id"].encode()  # it can be sent


@given(st.binary(), st.binary(min_size=1))
@example(b"", b"/")
@example(b"a", b"/" * 1024 + b"\xff")
def test_a_key_id_can_be_put_behind_its_place(place, key):
    prefix = place.replace(b"\0", b"") + b"/"
    location = Location("posts", prefix.lstrip(b"/"))
    assert parse_location(
        location.text + key_fields(key.replace(b"\0", b""))["key_id"]
    ).path == location.path + key.replace(b"\0", b"")


@pytest.mark.parametrize("text", ["pine-id:*", "a/pine-id:Zg=x/b"])
def test_an_id_that_is_none_is_refused(text):
    with pytest.raises(Invalid, match="is none"):
        key_of_text(text)


JSON = st.recursive(
    st.none()
    | st.booleans()
    | st.integers()
    | st.floats()
    | st.text()
    | st.sampled_from(["pine://a/", "5 MiB"]),
    lambda s: (
        st.lists(s, max_size=3)
        | st.dictionaries(st.sampled_from(["from", "to", "pattern", "cron"]), s)
    ),
    max_leaves=6,
)


@given(
    st.dictionaries(st.sampled_from(job_keys()), JSON),
    st.dictionaries(st.sampled_from(leg_keys()), JSON),
)
def test_whatever_a_definition_holds_it_is_read_or_refused(job, leg):
    with suppress(Invalid):
        read_definition({"job": "dawn", "legs": [LEG | leg]} | job)


def test_control_and_direction_characters_are_escaped():
    assert show("a\n\u202eb".encode() + b"\xff") == "a\\u000a\\u202eb\\xff"
    assert show("é 音".encode()) == "é 音"


@pytest.mark.parametrize(
    ("pattern", "key", "wanted"),
    [
        ("*.flac", b"a/b/x.flac", True),
        ("*.flac", b"x.wav", False),
        ("a/*.flac", b"a/b/x.flac", False),
        ("sheets/**", b"sheets/a/b.csv", True),
        ("sheets/**", b"old/sheets/a", False),
        ("**/x", b"x", True),
        ("**/x", b"a/b/x", True),
        ("x?", b"x/", False),
        ("[ab]*", b"b1", True),
        ("[!ab]*", b"b1", False),
        ("a.b", b"axb", False),
        ("*", b".hidden\n", True),
    ],
)
def test_patterns(pattern, key, wanted):
    assert compile_selection([pattern], []).takes(key) is wanted
    assert compile_selection([], [pattern]).takes(key) is not wanted


@pytest.mark.parametrize("pattern", ["", "[a", "/x", "[z-a]"])
def test_malformed_patterns_are_named(pattern):
    with pytest.raises(Invalid, match="malformed") as caught:
        compile_selection([pattern], [])
    assert caught.value.code == "pattern.malformed"


def _item(key, *, is_row):
    return Row(key, "", "") if is_row else Entry(key, 0, None)


keys = st.lists(st.binary(min_size=1, max_size=3), max_size=12, unique=True).map(sorted)


@given(keys, keys, keys, st.integers(1, 4), st.booleans())
def test_the_merge_gives_every_key_once_with_all_its_sides(a, b, c, page, in_columns):
    merge, sides = (
        Merge(),
        [
            [
                [_item(k, is_row=side is c) for k in side[i : i + page]]
                for i in range(0, len(side), page)
            ]
            for side in (a, b, c)
        ],
    )
    if in_columns:
        sides[2] = [Rows.of([row.stored() for row in page]) for page in sides[2]]
    found = []
    while (side := merge.lacking()) is not None:
        merge.feed(side, sides[side].pop(0) if sides[side] else None)
        found += [each for some in merge.ready() for each in some]
    found += [each for some in merge.ready() for each in some]
    assert [(k, *(x is not None for x in r)) for k, *r in found] == [
        (k, k in a, k in b, k in c) for k in sorted({*a, *b, *c})
    ]


def test_a_listing_out_of_order_is_not_believed():
    check = Ascending("office")
    check.check([(b"a",), (b"b",)])
    for bad in ([(b"b",)], [(b"c",), (b"c",)]):
        with pytest.raises(Incomplete, match="out of order"):
            check.check(bad)


def test_schedules_know_zones_and_summer_time():
    due = parse_schedule("30 5 * * *", "Europe/London")
    assert due.after(datetime(2026, 3, 28, 12, tzinfo=UTC)) == datetime(
        2026, 3, 29, 4, 30, tzinfo=UTC
    )
    assert due.after(datetime(2026, 1, 1, tzinfo=UTC)) == datetime(2026, 1, 1, 5, 30, tzinfo=UTC)
    skipped = parse_schedule("30 1 29 3 *", "Europe/London").after(
        datetime(2026, 3, 28, tzinfo=UTC)
    )
    assert (
        datetime(2026, 3, 29, 0, 30, tzinfo=UTC)
        <= skipped
        <= datetime(2026, 3, 29, 2, 0, tzinfo=UTC)
    )
    for bad in (
        ("* * * *", "UTC"),
        ("61 * * * *", "UTC"),
        ("* * * * * *", "UTC"),
        ("* * * * *", "Mars/Olympus"),
    ):
        with pytest.raises(Invalid):
            parse_schedule(*bad)


def test_a_definition_is_read_back_as_it_was_and_tells_itself():
    given_ = {
        "job": "dawn",
        "legs": [{**LEG, "leave-out": ["*.tmp"]}],
        "schedule": {"cron": "30 5 * * *", "zone": "Europe/London"},
    }
    definition = read_definition(given_, owner="wren")
    assert read_definition(definition.as_mapping()) == definition
    told = " ".join(sentences(definition))
    assert "pine://office/dawn/" in told and "*.tmp" in told and "Nothing is removed" in told


@pytest.mark.parametrize(
    ("change", "code"),
    [
        ({"job": "Not A Name"}, "job.name"),
        ({"intent": "copy-all"}, "job.unknown-choice"),
        ({"guards": {"removals": -1}}, "job.malformed"),
        ({"legs": []}, "job.no-legs"),
        ({"legs": [{"from": "pine://posts/", "to": "pine://posts/a/"}]}, "job.inside-itself"),
        ({"legs": [{"from": "pine://posts/a/", "to": "pine://posts/"}]}, "job.inside-itself"),
        ({"legs": [LEG, LEG]}, "job.same-target"),
        ({"legs": [{**LEG, "take": ["[x"]}]}, "pattern.malformed"),
        ({"legs": [{"from": "x", "to": "y"}]}, "location.malformed"),
        ({"mystery": 1}, "job.unknown-key"),
        ({"schedule": {"cron": "nonsense"}}, "schedule.malformed"),
        ({"why": 5}, "job.malformed"),
    ],
)
def test_bad_definitions_are_refused_with_every_problem(change, code):
    with pytest.raises(Invalid) as caught:
        read_definition({"job": "dawn", "legs": [LEG]} | change)
    assert code in [p["code"] for p in caught.value.problems]


def test_the_life_of_a_run_ends_and_nothing_leaves_the_end():
    assert advance(RunState.QUEUED, Event.CLAIMED) is RunState.WORKING
    assert not NEXT[RunState.ENDED]
    for state in RunState:
        if state is not RunState.ENDED:
            assert advance(state, Event.FINISHED) is RunState.ENDED
    with pytest.raises(WrongMoment, match="can't take"):
        advance(RunState.ENDED, Event.CLAIMED)


def test_every_state_and_outcome_has_its_mark_and_sentence():
    totals = no_totals()
    totals["copy"] = {"objects": 4, "bytes": 9}
    for word in MARKS:
        run = {
            "state": word,
            "outcome": "",
            "totals": totals,
            "problems": 1,
            "message": "why",
            "far_side": None,
            "reasons": {},
        }
        assert sentence(run).startswith(MARKS[word])
    clean = {
        "state": "ended",
        "outcome": "clean",
        "totals": totals,
        "problems": 0,
        "reasons": {
            "copy new": 4,
            "leave same": 3,
            "leave other-size": 2,
            "leave left-out": 1,
            "leave exists": 1,
        },
        "far_side": {"objects": 4, "bytes": 9, "differences": 0},
    }
    assert sentence(clean) == (
        "✓ clean: 4 copied, 0 replaced, 0 removed, 3 unchanged, 3 left out by rule, 1 left "
        "as the job says, all proven; the far side holds 4 files, 9 B, as intended"
    )
    assert outcome_of(totals, problems=0, stopped=False, failed=False) == "clean"
    assert outcome_of(no_totals(), problems=0, stopped=False, failed=False) == "nothing-to-do"
    assert size_text(3 * 1024**3 + 10**8) == "3.1 GiB"


@given(st.binary(max_size=50), st.binary(max_size=50))
def test_checksums_combine(a, b):
    assert combine(crc_of(a), crc_of(b), len(b)) == crc_of(a + b)


def test_the_checksum_is_the_published_one():
    assert crc_of(b"123456789") == base64.b64encode(bytes.fromhex("ae8b14860a799888")).decode()


TIMES = st.integers(-(1 << 66), 1 << 66)
FILES = st.builds(
    Entry,
    st.binary(min_size=1, max_size=3),
    st.integers(0, 1 << 60),
    TIMES,
    ctime_ns=TIMES,
    inode=st.integers(1, (1 << 64) - 1),
)
OBJECTS = st.builds(
    Entry,
    st.binary(min_size=1, max_size=3),
    st.integers(0, 1 << 60),
    st.none(),
    st.text(max_size=3),
)
UNTOLD = OBJECTS.map(
    lambda entry: entry._replace(etag="", inode=0, kind="")
)  # of which its store tells nothing but the size


@given(
    st.lists(FILES | OBJECTS, min_size=1, max_size=5)
    | st.lists(FILES, min_size=1)
    | st.lists(OBJECTS, min_size=1),
    st.data(),
)
def test_many_fingerprints_are_compared_as_one_by_one(entries, data):
    remembered = [fingerprint(entry) for entry in entries]
    page = EntryPage.of(entries)
    sure = all(
        likeness(entry, mark) is Likeness.SAME
        for entry, mark in zip(entries, remembered, strict=True)
    )
    assert (
        page.all_as(remembered) == sure and list(page) == entries and list(page[1:]) == entries[1:]
    )
    at, other = data.draw(st.integers(0, len(entries) - 1)), data.draw(FILES | OBJECTS)
    remembered[at] = fingerprint(other)
    assert page.all_as(remembered) == (sure and fingerprint(other) == fingerprint(entries[at]))


@given(UNTOLD, st.integers(0, 1 << 60))
def test_what_a_store_does_not_tell_is_asked_of_the_content(entry, at):
    assert likeness(entry, fingerprint(entry)) is Likeness.TOUCHED
    timed = entry._replace(modified_ns=at)
    assert (
        likeness(timed, fingerprint(timed)) is Likeness.SAME
        and size_of(fingerprint(timed)) == entry.size
    )
    assert likeness(timed._replace(modified_ns=at + 1), fingerprint(timed)) is Likeness.DIFFERENT
    assert is_racy(timed, at + 1) and not is_racy(timed._replace(etag="e"), at + 1)


@given(
    FILES,
    st.booleans(),
    st.booleans(),
    st.integers(0, 1 << 40),
    st.sampled_from(["", "kXp0Xq3n5uU="]),
)
def test_a_row_comes_back_from_how_it_is_kept(entry, racy, cleared, run, crc):
    row = Row(entry.key, fingerprint(entry), "0|e", crc, racy, cleared, run)
    assert Row.read(row.stored()) == row
    rows = Rows.of([row.stored()])
    assert (
        rows[0] == row
        and rows.all_settled(run + 1) == (not racy and not cleared)
        and not rows.all_settled(run)
    )
    assert size_of(row.source) == entry.size and size_of(row.there) == 0
    if abs(entry.modified_ns) < 1 << 63:
        assert modified_ns_of(row.source) == entry.modified_ns and modified_ns_of(row.there) is None
