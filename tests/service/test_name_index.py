"""Names are found by any part, with and without the index, and never one that is no more."""

from __future__ import annotations

import random

import pytest

from tests.service.test_keeping import NOW, clear, keeper, run_of  # noqa: F401 - a fixture

WORDS = (b"owl", b"wren", b"dawn", b"2026", b".flac", b"\xff\xfe", "ñu".encode(), b'"or"', b"a b")


@pytest.fixture
def named(services):
    """A function that writes records of these keys down."""
    from pinecart.service.config.settings import STATE
    from pinecart.service.runs.models import RecordRow
    from pinecart.service.runs.name_index import FILE

    (STATE.root / FILE).unlink(missing_ok=True)

    def made(job, keys):
        run = run_of(job, NOW, records=len(keys))
        rows = list(RecordRow.objects.filter(run=run).order_by("pk"))
        for row, key in zip(rows, keys, strict=True):
            row.key = key
        RecordRow.objects.bulk_update(rows, ["key"])
        return run

    yield made
    (STATE.root / FILE).unlink(missing_ok=True)


def found(text, limit=1000):
    from pinecart.service.config.rights import SYSTEM
    from pinecart.service.runs.selectors.finding import places_of_name

    places = places_of_name(SYSTEM, text, limit=limit)
    return sorted(place["key"] for place in places)


def in_run(run, text, **more):
    from pinecart.service.runs.selectors.records import RecordsWanted, records_after

    rows = records_after(run, RecordsWanted(text=text, **more))
    return [row["key"] for row in rows]


def test_what_is_found_is_the_same_with_and_without_the_index(named, keeper):  # noqa: F811
    from pinecart.core.places import key_text
    from pinecart.service.runs.name_index import indexed_up_to

    chance = random.Random(3)
    keys = sorted({b"/".join(chance.choices(WORDS, k=3)) + b"%d" % n for n in range(300)})
    run = named("first", keys)
    named("second", [b"other/" + key for key in keys[:50]])
    asked = [key_text(word) for word in WORDS] + ["ow", "wl/d", "owl*dawn", "zzz", "first"]
    by_scan = {text: found(text) for text in asked}
    of_run = {text: in_run(run, text) for text in asked if "*" not in text}
    assert indexed_up_to() == 0
    keeper._index_names(float("inf"))
    assert indexed_up_to() > 0
    assert {text: found(text) for text in asked} == by_scan
    assert {text: in_run(run, text) for text in of_run} == of_run
    assert by_scan["owl"] and by_scan["owl*dawn"] and not by_scan["zzz"]
    page = in_run(run, "owl", limit=5)
    assert page == of_run["owl"][:5]
    late = named("late", [b"owl/late"])
    assert "owl/late" in found("owl") and in_run(late, "late") == ["owl/late"]


def test_what_is_cleared_away_is_found_no_more(named, keeper):  # noqa: F811
    from datetime import timedelta

    from pinecart.service.runs.name_index import numbers_found

    named("gone", [b"owl/gone-%d" % n for n in range(20)])
    keeper._index_names(float("inf"))
    assert len(found("gone-")) == 20
    clear(keeper, NOW + timedelta(days=11))
    assert found("gone-") == []
    asked = {"above": 0, "below": 1 << 60, "limit": 99, "newest_first": True}
    assert numbers_found([b"gone-"], **asked) == []


def test_a_damaged_index_is_made_anew(named, keeper):  # noqa: F811
    from pinecart.service.config.settings import STATE
    from pinecart.service.runs.name_index import FILE

    named("kept", [b"owl/kept"])
    keeper._index_names(float("inf"))
    (STATE.root / FILE).write_bytes(b"no database at all" * 500)
    assert found("kept") == ["owl/kept"]
    keeper._index_names(float("inf"))
    assert found("kept") == ["owl/kept"]
