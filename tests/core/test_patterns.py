"""Name patterns and renamings: what they take, and that no pattern makes anybody wait."""

from __future__ import annotations

import re
import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pinecart.core.entries import Entry
from pinecart.core.errors import Invalid
from pinecart.core.patterns import compiled
from pinecart.core.renaming import Renaming, read_renaming
from pinecart.core.selection import compile_selection

PIECES = st.sampled_from(["*", "**", "**/", "?", "a", "b", "B", "/", "[ab]", "[!a]", "[a-c]", "é"])
KEYS = st.lists(st.sampled_from(["a", "b", "B", "c", "/", "é"]), max_size=9).map(
    lambda parts: "".join(parts).encode()
)


def by_the_book(pattern):
    """The same in the plain words of a regular expression, however long it takes."""
    meant = {"**/": "(?:.*/)?", "**": ".*", "*": "[^/]*", "?": "[^/]", "[!a]": "[^a/]"}
    found = re.findall(r"\*\*/|\*\*|\*|\?|\[[^]]*\]|.", pattern)
    body = "".join(
        meant.get(p, p if p.startswith("[") else re.escape(p.encode().decode("latin-1")))
        for p in found
    )
    return ("" if "/" in pattern else "(?:.*/)?") + body


@given(st.lists(PIECES, min_size=1, max_size=7).map("".join), KEYS, st.booleans())
def test_a_pattern_takes_what_its_words_say(pattern, key, ignore_case):
    if pattern.startswith("/"):
        pattern = "a" + pattern
    flags = re.DOTALL | (re.IGNORECASE if ignore_case else 0)
    expected = re.compile(by_the_book(pattern).encode("latin-1"), flags).fullmatch(key) is not None
    assert bool(compiled([pattern], ignore_case=ignore_case).fullmatch(key)) is expected


@pytest.mark.parametrize(
    "pattern",
    [
        "*a" * 400 + "b",
        "**a" * 300 + "b",
        "a*/**" * 150 + "/b",
        "**/*" * 200 + "b",
        "**/a*" * 100 + "/b",
        "?*" * 400 + "b",
    ],
    ids=lambda p: p[:10],
)
def test_no_pattern_makes_anybody_wait(pattern):
    """A regular expression would go back and forth over these for longer than anybody lives."""
    rules = compile_selection([pattern], [])
    begun = time.process_time()
    for key in (b"a" * 1024, b"a/" * 512, (b"a" * 30 + b"/") * 33):
        assert not rules.takes(key)
    assert time.process_time() - begun < 1


def test_more_patterns_than_anybody_needs_are_refused():
    with pytest.raises(Invalid, match="patterns"):
        compile_selection(["[ab]*" * 200] * 501, [])


def test_ten_times_as_many_patterns_take_some_ten_times_as_long():
    def seconds_for(times):
        begun = time.process_time()
        compile_selection(["*[ab]c" * 160] * times, ["a" * 1000] * times)
        return time.process_time() - begun

    assert seconds_for(20) < 30 * seconds_for(2)


@pytest.mark.parametrize("pattern", ["", "/rooted", "[a", "a" * 1001])
def test_what_is_no_pattern_is_said_to_be_none(pattern):
    with pytest.raises(Invalid) as caught:
        compile_selection([], [pattern])
    assert caught.value.problems[0]["code"] == "pattern.malformed"


def test_no_renaming_makes_anybody_wait():
    rule = read_renaming("^(a+)+$", "b")
    begun = time.process_time()
    assert rule.new_key(Entry(b"a" * 1000 + b"!", 1, 0), 1) == b"a" * 1000 + b"!"
    assert time.process_time() - begun < 1


@pytest.mark.parametrize(
    ("pattern", "to"),
    [
        ("", "{name:>100000000}"),
        ("", "{name!r}"),
        ("", "{name.__class__}"),
        ("", "{name[0]}"),
        ("", "{}"),
        ("", "{nothing}"),
        ("(a", "b"),
        ("a", r"\1"),
        ("(?=a)b", "c"),
        (r"(a)\1", "c"),
        ("a" * 1001, "b"),
        ("", "/{name}"),
        ("a", ""),
    ],
)
def test_what_is_no_renaming_is_refused(pattern, to):
    with pytest.raises(Invalid) as caught:
        read_renaming(pattern, to)
    assert caught.value.problems[0]["code"] == "rename.malformed"


@given(st.binary(min_size=1, max_size=20))
def test_names_that_are_no_text_keep_their_bytes(key):
    assert Renaming("nowhere-in-it", "x").new_key(Entry(key, 1, 0), 1) == key


def test_renamings_still_rename():
    assert (
        read_renaming(r"^([^/]+)/", r"new/\1-").new_key(
            Entry("höhle/a\udcff".encode("utf-8", "surrogateescape"), 1, 0), 1
        )
        == "new/höhle-a".encode() + b"\xff"
    )
    assert (
        read_renaming("", "{year}/{name}-{counter}{ending}").new_key(Entry(b"f/a.csv", 1, 0), 7)
        == b"1970/a-0007.csv"
    )
