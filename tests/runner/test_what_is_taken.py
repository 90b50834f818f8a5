"""Which files a leg takes by what lies there, how settled they are, and where they are read."""

from __future__ import annotations

import os
import time

import pytest

from pinecart.core.definition_reading import read_definition
from pinecart.core.errors import Invalid
from pinecart.core.part import Part
from pinecart.core.sentences import dangers
from tests.runner.engine import Memory, done, posts, run
from tests.runner.test_every_direction import bucket_at
from tests.standin import running

HOUR_NS = 3600 * 10**9
BASE_NS = 10**18


def put(folder, name, body=b"x", at_ns=BASE_NS):
    (folder / name).parent.mkdir(parents=True, exist_ok=True)
    (folder / name).write_bytes(body)
    os.utime(folder / name, ns=(at_ns, at_ns))


async def test_only_what_is_younger_than_the_youngest_there_is_taken_and_the_rest_counted(
    folder, office
):
    _, opened = office
    memory = Memory()
    await run(memory, posts(folder), opened(), younger_than_there="leg")
    assert done(memory) == {"copy new": 4}, "nothing was there"
    put(folder, "late", at_ns=BASE_NS - HOUR_NS)
    put(folder, "as-old", at_ns=BASE_NS)
    put(folder, "young", at_ns=BASE_NS + HOUR_NS)
    put(folder, "a.flac", b"changed", at_ns=BASE_NS - HOUR_NS)
    ending = await run(memory, posts(folder), opened(), 2, younger_than_there="leg")
    assert done(memory) == {"copy new": 1}
    counted = {(d, reason): n for d, reason, n, _ in ending.counted}
    assert counted == {("leave", "not-younger"): 3, ("leave", "same"): 3}
    assert ("youngest", "The youngest file in the destination is of 2001-09-09 01:46:40 UTC.") in (
        memory.lines
    )


async def test_the_youngest_there_may_be_each_folders_own(folder, office):
    _, opened = office
    memory = Memory()
    put(folder, "fells/one", at_ns=BASE_NS + HOUR_NS)
    put(folder, "moors/one", at_ns=BASE_NS - HOUR_NS)
    await run(memory, posts(folder), opened(), younger_than_there="folder")
    put(folder, "fells/two", at_ns=BASE_NS)
    put(folder, "moors/two", at_ns=BASE_NS)
    put(folder, "bays/one", at_ns=BASE_NS - 9 * HOUR_NS)
    ending = await run(memory, posts(folder), opened(), 2, younger_than_there="folder")
    assert set(memory.records) == {b"moors/two", b"bays/one"}
    assert ("leave", "not-younger", 1, 1) in ending.counted


async def test_a_snapshot_is_read_in_the_place_of_its_source(tmp_path, office):
    server, opened = office
    root = tmp_path / "posts"
    put(root, "live/a", b"half writ")
    put(root, ".snapshots/daily/live/a", b"whole")
    memory = Memory()
    places = {"from": "pine://posts/live/", "to": "pine://office/dawn/"}
    leg = places | {"snapshot": ".snapshots/daily/live"}
    await run(memory, posts(root), opened(), legs=[leg])
    assert server.shelf.body("dawn", "a") == b"whole"
    with pytest.raises(Invalid, match="A move clears its source"):
        read_definition({"job": "dawn", "intent": "hand-over", "legs": [leg]})
    with pytest.raises(Invalid, match="no folder of the source's store"):
        read_definition({"job": "dawn", "legs": [leg | {"snapshot": "../elsewhere"}]})


async def test_a_file_that_was_touched_a_moment_ago_is_left_where_that_is_asked(folder, office):
    _, opened = office
    now_ns = time.time_ns()
    put(folder, "growing", at_ns=now_ns)
    put(folder, "from-the-future", at_ns=now_ns + HOUR_NS)
    memory = Memory()
    ending = await run(memory, posts(folder), opened(), part=Part(settled_s=60))
    assert b"growing" not in memory.records and b"from-the-future" in memory.records
    assert ("leave", "too-young", 1, 1) in ending.counted
    assert ending.far_side is not None, "all names were looked at: the far side is, too"


def test_what_can_leave_a_file_out_for_good_is_marked_as_dangerous():
    leg = {"from": "pine://a/", "to": "pine://b/", "younger_than_there": "leg"}
    (told,) = [d for d in dangers(read_definition({"job": "d", "legs": [leg]})) if "younger" in d]
    assert "then left out" in told


async def test_a_source_of_two_legs_is_read_once_and_each_has_its_own_outcome():
    with running("here", "dawn", "dusk") as (server, endpoint):
        for n in range(5):
            server.shelf.put("here", f"{n}.csv", b"%d" % n, {"x-amz-meta-of": "mara"})
        source, target = (bucket_at(endpoint, name) for name in ("posts", "office"))
        legs = [
            {"from": "pine://posts/here/", "to": f"pine://office/{there}/"}
            for there in ("dawn", "dusk")
        ]
        memory = Memory()
        before = server.counts["get"]
        ending = await run(memory, source, target, legs=legs, route="through-us")
        assert ending.error is None and ending.acted == 10
        assert server.counts["get"] - before == 5, "the second leg had them at hand"
        for there in ("dawn", "dusk"):
            assert [server.shelf.body(there, f"{n}.csv") for n in range(5)] == [
                b"%d" % n for n in range(5)
            ]
