"""What is noticed at a watched source, and when a run is started for it."""

from __future__ import annotations

from array import array

from hypothesis import given
from hypothesis import strategies as st

from pinecart.core.digests import NUMBERS, digest_of, is_among
from pinecart.core.watching import PATIENCE_S, Pending, SourceLook, judge, known_after

SETTLED_S = 10.0


def seen(*digests: int, known: tuple[int, ...] = (), rest: tuple[int, ...] = ()) -> SourceLook:
    fresh = frozenset(digests) - frozenset(known)
    gone = len(frozenset(known) - frozenset(digests))
    return SourceLook(array(NUMBERS, sorted(digests)), fresh, frozenset(rest) & fresh, gone)


def after(*looks: tuple[float, SourceLook], counts_gone: bool = False):
    """The last judgement of looks at these times."""
    pending, judged = Pending(), None
    for now_s, found in looks:
        judged = judge(found, pending, now_s, SETTLED_S, counts_gone=counts_gone)
        pending = judged.pending
    return judged


def test_a_file_is_carried_once_it_was_left_alone():
    judged = after((0, seen(1)))
    assert not judged.is_ready and judged.pending.growing == 1
    assert judged.look_in_s == SETTLED_S / 2
    assert after((0, seen(1)), (9, seen(1))).is_ready is False
    assert after((0, seen(1)), (10, seen(1))).is_ready


def test_what_grows_gets_another_digest_and_never_settles():
    looks = [(now, seen(100 + now)) for now in range(0, 60, 5)]
    judged = after(*looks)
    assert not judged.is_ready and judged.pending.growing == 1


def test_a_file_that_came_whole_is_settled_at_once():
    assert after((0, seen(1, rest=(1,)))).is_ready


def test_a_burst_waits_for_its_rest_but_not_for_ever():
    one_settled = seen(1, 2, rest=(1,))
    judged = after((0, one_settled))
    assert not judged.is_ready and judged.look_in_s == PATIENCE_S
    growing = seen(1, 3, rest=(1,))
    judged = after((0, one_settled), (PATIENCE_S, growing))
    assert judged.is_ready and judged.pending.growing == 1
    assert list(known_after(growing, judged.pending)) == [1], "what grows is noticed later"


def test_what_is_gone_counts_for_a_mirror_alone_and_only_if_it_stays_away():
    known = (1, 2)
    assert not after((0, seen(1, known=known)), (20, seen(1, known=known))).is_ready
    gone = after((0, seen(1, known=known)), counts_gone=True)
    assert not gone.is_ready and gone.look_in_s == SETTLED_S
    came_back = ((0, seen(1, known=known)), (10, seen(1, 2, known=known)))
    assert not after(*came_back, counts_gone=True).is_ready
    stayed = ((0, seen(1, known=known)), (10, seen(1, known=known)))
    assert after(*stayed, counts_gone=True).is_ready


def test_nothing_new_is_looked_for_again_at_the_usual_time_or_when_a_file_comes_of_age():
    assert after((0, seen(1, known=(1,)))).look_in_s is None
    assert after((0, seen(1, known=(1,))._replace(of_age_in_s=7.0))).look_in_s == 7.0


@given(st.sets(st.integers(0, 2**63 - 1)), st.integers(0, 2**63 - 1))
def test_a_digest_is_found_among_those_known_if_it_is_there(known, asked):
    in_order = array(NUMBERS, sorted(known))
    assert is_among(in_order, asked) == (asked in known)
    assert all(is_among(in_order, digest) for digest in known)


def test_a_digest_is_of_the_leg_the_name_and_the_fingerprint():
    found = {
        digest_of(*of)
        for of in [(0, b"a", "x"), (1, b"a", "x"), (0, b"b", "x"), (0, b"a", "y"), (0, b"a\0x", "")]
    }
    assert len(found) == 5
