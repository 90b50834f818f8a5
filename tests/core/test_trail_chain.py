"""The trail's chain: whatever is done to what was written shows."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pinecart.core.trail_chain import ChainEntry, ChainHead, link, verify

KEY, OTHER_KEY = b"k" * 32, b"o" * 32


def chained(count, key=KEY):
    entries, before = [], ""
    for number in range(1, count + 1):
        facts = {"before": {"rate": number}, "after": {"rate": None}}
        entry = ChainEntry(number, "2026-03-02T05:30:00", "wren", "", "job.changed", "d", facts, "")
        before = link(key, before, entry)
        entries.append(entry._replace(digest=before))
    return entries


def altered(entries, at, extra):
    field = ("at", "who", "address", "action", "subject", "facts", "digest")[extra % 7]
    old = getattr(entries[at], field)
    entries[at] = entries[at]._replace(**{field: {} if field == "facts" else f"{old}x"})


def removed(entries, at, extra):
    del entries[at]


def removed_and_closed_up(entries, at, extra):
    del entries[at]
    entries[at:] = [e._replace(number=e.number - 1) for e in entries[at:]]


def added(entries, at, extra):
    entries.insert(at, entries[at]._replace(subject="never"))


def exchanged(entries, at, extra):
    other = (at + 1 + extra % (len(entries) - 1)) % len(entries)
    one, two = entries[at], entries[other]
    entries[at] = two._replace(number=one.number)
    entries[other] = one._replace(number=two.number)


def rewritten(entries, at, extra):
    entries[:] = chained(len(entries), OTHER_KEY)


def test_what_was_written_holds():
    entries = chained(50)
    head = ChainHead(50, entries[-1].digest)
    assert verify(KEY, entries, [ChainHead(7, entries[6].digest), head]) == (head, [])
    assert verify(KEY, []) == (ChainHead(0, ""), [])


@pytest.mark.parametrize(
    "tampered", [altered, removed, removed_and_closed_up, added, exchanged, rewritten]
)
@given(count=st.integers(3, 30), at=st.integers(0, 100), extra=st.integers(0, 100))
def test_whatever_is_done_to_it_is_found(tampered, count, at, extra):
    entries = chained(count)
    tampered(entries, at % (count - 1), extra)  # one before the last: the tail is another matter
    assert verify(KEY, entries).faults


def test_a_cut_tail_is_found_by_a_head_that_was_kept_elsewhere():
    entries = chained(9)
    head = ChainHead(9, entries[-1].digest)
    assert not verify(KEY, entries[:8]).faults
    (fault,) = verify(KEY, entries[:8], [head]).faults
    assert "tail was cut" in fault.words
    assert verify(KEY, chained(9, OTHER_KEY), [head]).faults
    (fault,) = verify(OTHER_KEY, chained(9, OTHER_KEY), [head]).faults
    assert "Another entry stood here" in fault.words
