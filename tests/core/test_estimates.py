"""What a run would take: time, requests, their price."""

from __future__ import annotations

from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pinecart.core.estimates import (
    Doing,
    Took,
    cost_of,
    price_of,
    requests_at_source,
    requests_at_target,
    seconds_for,
)

MIB = 1 << 20
NOTHING = Doing(carried=0, bytes=0, removed=0, cleared=0, aside=0, listed=0)


@given(
    st.floats(0.001, 10),
    st.floats(1e-9, 1e-5),
    st.lists(st.tuples(st.integers(1, 10_000), st.integers(1, 1 << 30)), min_size=3, max_size=9),
)
def test_time_is_learned_of_files_and_bytes(each, byte, past):
    took = [Took(o, b, each * o + byte * b) for o, b in past]
    doing = NOTHING._replace(carried=100, bytes=100 * MIB)
    found = seconds_for(doing, took)
    assert found is not None and found >= 0
    (one,) = took[:1]
    alone = seconds_for(NOTHING._replace(carried=one.objects, bytes=one.bytes), [one])
    assert alone == pytest.approx(one.seconds, rel=1e-6), "one run tells of its like"


def test_without_a_past_nothing_is_said_of_time():
    assert seconds_for(NOTHING, []) is None
    assert seconds_for(NOTHING, [Took(0, 0, 5.0)]) is None


def test_requests_are_listings_files_pieces_and_what_is_set_aside():
    doing = NOTHING._replace(carried=10, bytes=10, listed=2001)
    assert (requests_at_source(doing), requests_at_target(doing)) == (13, 13)
    large = NOTHING._replace(carried=1, bytes=80 * MIB, listed=1)
    assert requests_at_target(large) == 1 + 10
    assert requests_at_source(large._replace(in_one_system=True)) == 1
    removing = NOTHING._replace(removed=5, aside=5, listed=1)
    assert requests_at_target(removing) == 1 + 20


def test_a_price_is_a_number_of_whatever_currency():
    assert cost_of(2000, 1 << 30, "0.005", "0.09") == Decimal("0.10")
    assert cost_of(2000, 1 << 30, "", "0.09") == Decimal("0.09")
    assert cost_of(2000, 1 << 30, "", "") is None
    assert [price_of(text) for text in ("-1", "NaN", "free", "Infinity")] == [None] * 4
