"""A batch and its answer come back from JSON as they were, whatever the names are."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pinecart.core.batch import MOST, Batch, BatchAnswer, Carried, Task
from pinecart.core.entries import Entry, Row
from pinecart.core.errors import Incomplete, SignInRefused, StoreError, Taken
from pinecart.core.ports import Placed

KEYS, WHOLE, TEXTS = (
    st.binary(min_size=1, max_size=20),
    st.integers(0, 1 << 62),
    st.text(max_size=20),
)
ENTRIES = st.builds(
    Entry,
    KEYS,
    WHOLE,
    st.none() | WHOLE,
    TEXTS,
    TEXTS,
    WHOLE,
    WHOLE,
    st.just(""),
    st.sampled_from(["", "link"]),
    st.just(b"") | KEYS,
)
TASKS = st.builds(
    lambda entry, there: Task(entry.key, entry, there and there._replace(key=entry.key)),
    ENTRIES,
    st.none() | ENTRIES,
)
PLACED = st.builds(
    Placed, ENTRIES, st.sampled_from(["read-back", "server-verified"]), st.booleans(), TEXTS
)
CARRIED = st.builds(
    lambda entry, placed, crc, racy, run: Carried(
        placed, Row(entry.key, "a", "b", crc, racy, False, run), entry.size, 2, entry, 0.25
    ),
    ENTRIES,
    PLACED,
    TEXTS,
    st.booleans(),
    WHOLE,
)
HEAD = (7, 12, 0, 3)


@given(st.lists(TASKS, max_size=5), st.booleans())
def test_a_batch_comes_back_as_it_was(tasks, again):
    batch = Batch(*HEAD, "digest", "pine://posts/", "pine://office/dawn/", tuple(tasks), again)
    assert Batch.read(batch.text()) == batch


@given(st.lists(st.none() | CARRIED, max_size=5))
def test_an_answer_comes_back_as_it_was(results):
    answer = BatchAnswer(*HEAD, tuple(results))
    assert BatchAnswer.read(answer.text()) == answer


def test_what_went_wrong_comes_back_with_its_code():
    answer = BatchAnswer(
        *HEAD, (Taken("x is there.", tries=3), SignInRefused("Not with this key."))
    )
    taken, refused = BatchAnswer.read(answer.text()).results
    assert isinstance(taken, StoreError) and (taken.code, taken.message, taken.facts) == (
        "store.not-as-planned",
        "x is there.",
        {"tries": 3},
    )
    assert isinstance(refused, SignInRefused)


def test_what_is_not_understood_is_refused():
    batch = Batch(*HEAD, "digest", "pine://posts/", "pine://office/dawn/", ())
    with pytest.raises(Incomplete, match="schema 9"):
        Batch.read(json.dumps(json.loads(batch.text()) | {"schema": 9}))
    task = Task(b"x", Entry(b"x", 1, None), None)
    with pytest.raises(Incomplete, match="1000 are the most"):
        Batch.read(batch._replace(tasks=(task,) * (MOST + 1)).text())
