"""The decision table, cell by cell, and that it is total."""

from __future__ import annotations

import itertools

import pytest

from pinecart.core.decide import (
    Decision,
    Intent,
    Look,
    LookAnswer,
    OnDifference,
    Rules,
    SideState,
    There,
    consider,
    decide_cleared,
    decide_known,
    decide_unknown,
)
from pinecart.core.entries import Entry, Row, fingerprint

S, D, A = SideState.SAME, SideState.DIFFERENT, SideState.ABSENT
TOP_UP, RENEW, MIRROR, HAND_OVER, REMOVE = Intent
CELLS = [
    (S, S, {"": "leave same", HAND_OVER: "clear proven"}),
    (S, D, {"": "leave changed-there !"}),
    (S, A, {"": "copy missing-there"}),
    (D, S, {"": "replace changed", TOP_UP: "leave exists"}),
    (D, D, {"": "refuse both-changed !"}),
    (D, A, {"": "copy changed"}),
    (A, S, {"": "leave gone", MIRROR: "remove gone"}),
    (A, D, {"": "leave gone", MIRROR: "refuse changed-there !"}),
    (A, A, {"": "leave row-dropped"}),
]
UNKNOWN = [
    (True, There.ABSENT, {"": "copy new"}),
    (True, There.EQUAL, {"": "leave recognised", HAND_OVER: "clear recognised"}),
    (True, There.DIFFERS, {"": "replace differs", TOP_UP: "leave exists"}),
    (True, There.UNPROVEN, {"": "replace unproven", TOP_UP: "leave unproven"}),
    (False, There.DIFFERS, {"": "leave foreign", MIRROR: "remove foreign", REMOVE: "remove asked"}),
]


def told(verdict):
    return f"{verdict.decision} {verdict.reason}" + " !" * verdict.problem


@pytest.mark.parametrize("intent", list(Intent))
@pytest.mark.parametrize(("source", "there", "wanted"), CELLS)
def test_with_a_ledger_row(source, there, wanted, intent):
    assert told(decide_known(source, there, Rules(intent))) == wanted.get(intent, wanted[""])


@pytest.mark.parametrize("intent", list(Intent))
@pytest.mark.parametrize(("source", "there", "wanted"), UNKNOWN)
def test_without_a_ledger_row(source, there, wanted, intent):
    assert told(decide_unknown(source, there, Rules(intent))) == wanted.get(intent, wanted[""])


@pytest.mark.parametrize(
    ("choice", "replace", "changed_there", "both"),
    [
        (OnDifference.KEEP, "leave exists", "leave exists", "leave exists"),
        (
            OnDifference.REPLACE_CHANGED,
            "replace changed",
            "leave changed-there !",
            "refuse both-changed !",
        ),
        (
            OnDifference.REPLACE_ALL,
            "replace changed",
            "replace changed-there",
            "replace both-changed",
        ),
        (OnDifference.KEEP_BOTH, "copy exists", "copy exists", "copy exists"),
        (OnDifference.REFUSE, "refuse exists !", "refuse exists !", "refuse exists !"),
    ],
)
def test_the_five_choices(choice, replace, changed_there, both):
    rules = Rules(RENEW, choice)
    assert [told(decide_known(*c, rules)) for c in ((D, S), (S, D), (D, D))] == [
        replace,
        changed_there,
        both,
    ]
    assert told(decide_known(S, S, rules)) == "leave same"
    assert told(decide_known(A, S, rules)) == "leave gone"


def test_nothing_touches_an_object_whose_source_was_cleared():
    for intent, there, source in itertools.product(Intent, SideState, (True, False)):
        verdict = decide_cleared(source, there, proven=False, rules=Rules(intent))
        assert verdict.decision in (Decision.LEAVE, Decision.REFUSE) or there is A
        assert verdict.decision is not Decision.REMOVE


def bucket(size: int, etag: str) -> Entry:
    return Entry(b"k", size, None, etag)


def row(source: Entry, there: Entry, **rest) -> Row:
    return Row(b"k", fingerprint(source), fingerprint(there), **rest)


OLD, NEW = bucket(5, "old"), bucket(5, "new")


def test_a_far_side_that_differs_is_tried_for_recognition_first():
    known = row(OLD, OLD)
    assert consider(OLD, NEW, known, Rules()) is Look.FAR
    assert told(consider(OLD, NEW, known, Rules(), far_look=LookAnswer.EQUAL)) == "leave recognised"
    assert (
        told(consider(OLD, NEW, known, Rules(), far_look=LookAnswer.DIFFERS))
        == "leave changed-there !"
    )
    assert (
        told(consider(OLD, NEW, known, Rules(), far_look=LookAnswer.UNPROVEN))
        == "leave changed-there !"
    )
    assert told(consider(OLD, bucket(6, "x"), known, Rules())) == "leave changed-there !"


def test_equal_size_alone_is_never_proof():
    assert consider(OLD, NEW, None, Rules()) is Look.FAR
    assert (
        told(consider(OLD, NEW, None, Rules(), far_look=LookAnswer.UNPROVEN)) == "replace unproven"
    )
    assert told(consider(OLD, bucket(6, "x"), None, Rules())) == "replace differs"


def test_a_file_that_was_only_touched_or_is_racy_has_its_content_compared():
    file = Entry(b"k", 5, 100, ctime_ns=200, inode=7)
    touched = file._replace(ctime_ns=201)
    for entry, known in ((touched, row(file, OLD)), (file, row(file, OLD, racy=True))):
        assert consider(entry, OLD, known, Rules()) is Look.SOURCE
        assert (
            told(consider(entry, OLD, known, Rules(), source_look=LookAnswer.EQUAL)) == "leave same"
        )
        assert (
            told(consider(entry, OLD, known, Rules(), source_look=LookAnswer.DIFFERS))
            == "replace changed"
        )
    assert (
        told(consider(file._replace(modified_ns=101), OLD, row(file, OLD), Rules()))
        == "replace changed"
    )


def test_every_situation_gets_a_verdict():
    sides = [None, OLD, NEW, bucket(6, "x"), OLD._replace(fault="unreadable")]
    rows = [None, row(OLD, OLD), row(OLD, OLD, racy=True), row(OLD, OLD, cleared=True)]
    for entry, far, known, intent, choice in itertools.product(
        sides, sides[:4], rows, Intent, OnDifference
    ):
        if entry is None and far is None and known is None:
            continue
        for answer in LookAnswer:
            found = consider(
                entry, far, known, Rules(intent, choice), source_look=answer, far_look=answer
            )
            assert not isinstance(found, Look)
            if intent in (TOP_UP, RENEW):
                assert found.decision not in (Decision.REMOVE, Decision.CLEAR)
            if intent is TOP_UP:
                assert found.decision is not Decision.REPLACE
