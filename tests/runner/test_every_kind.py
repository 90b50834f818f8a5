"""Each kind of store as source and as destination of each other: what arrives is compared by other
means than ours, and the second run asks for listings only.
"""

from __future__ import annotations

import itertools

import pytest

from pinecart.core.ports import CountsRequests
from tests.repeats import first
from tests.runner.engine import Memory, done, run
from tests.servers.kinds import NAMES, every_kind

LONG = bytes(range(251)) * (20 * (1 << 20) // 251)
FILES = {
    "empty": b"",
    "n" * 200: b"two hundred",
    "accents/\u00e9.txt": b"one code point",
    "accents/e\u0301.csv": b"two",
    "blank + %#?&.csv": b"1,2",
    "a.d/b": b"1",
    "a/b": b"2",
    "a0": b"3",
    "deep/er/and/deeper/x": b"4",
    "long.flac": LONG,
}
FEW = {"one": b"1", "sub/two": b"22", "sub/three": b"333"}
TIMELESS = ("webdav",)  # what lies there has no time of ours
LISTINGS = 80  # requests that a tree of this size is listed with, at most


@pytest.fixture(scope="module")
def kinds(tmp_path_factory):
    with every_kind(tmp_path_factory.mktemp("kinds")) as found:
        yield found


def legs_of(source, target, **more):
    return {"from": f"pine://posts/{source.path}", "to": f"pine://office/{target.path}"} | more


async def carried(memory, source, target, number=1, **job):
    """One run; and how many requests each side was asked."""
    here, there = source.opened("posts", run=number), target.opened("office", run=number)
    try:
        ending = await run(memory, here, there, number, **legs_of(source, target), **job)
        asked = [s.requests_sent for s in (here, there) if isinstance(s, CountsRequests)]
    finally:
        await here.close()
        await there.close()
    assert ending.error is None, ending
    return ending, sum(asked)


WAYS = [(kind, "folder") for kind in NAMES] + [("folder", kind) for kind in NAMES[1:]]
OTHERS = [way for way in itertools.product(NAMES, NAMES) if way not in WAYS]


@pytest.mark.parametrize("way", first(len(WAYS), [*WAYS, *OTHERS]), ids=" to ".join)
async def test_what_arrives_is_what_was_there_and_then_only_listings_are_asked_for(kinds, way):
    source, target = kinds.place(way[0]), kinds.place(way[1])
    files = {k: v for k, v in FILES.items() if "smb" not in way or "?" not in k}
    source.fill(files)
    memory = Memory()
    await carried(memory, source, target)
    assert done(memory) == {"copy new": len(files)}, memory.records
    assert target.holds() == files
    ending, asked = await carried(memory, source, target, 2)
    assert ending.acted == 0 and not memory.records
    assert asked < LISTINGS
    memory.rows.clear()  # nothing is remembered: what lies there is known by its time or content
    by = {"compare": "checksum"} if way[1] in TIMELESS else {}
    ending, _ = await carried(memory, source, target, 3, **by)
    assert ending.acted == 0, done(memory)


@pytest.mark.parametrize("way", WAYS, ids=" to ".join)
async def test_an_exact_copy_can_be_undone(kinds, way):
    source, target = kinds.place(way[0]), kinds.place(way[1])
    source.fill(FEW)
    memory, mirror = Memory(), {"intent": "mirror", "guards": {"removals_percent": 100}}
    await carried(memory, source, target, **mirror)
    source.remove("sub/two")
    source.fill({"one": b"another"})
    await carried(memory, source, target, 2, **mirror)
    assert target.holds() == {"one": b"another", "sub/three": b"333"}
    memory.undoing()
    await carried(memory, source, target, 3, kind="undo", **mirror)
    assert target.holds() == FEW, done(memory)


@pytest.mark.parametrize("way", WAYS, ids=" to ".join)
async def test_what_was_handed_over_is_gone_from_its_source_and_comes_back(kinds, way):
    source, target = kinds.place(way[0]), kinds.place(way[1])
    source.fill(FEW)
    memory = Memory()
    await carried(memory, source, target, intent="hand-over")
    assert (source.holds(), target.holds()) == ({}, FEW), done(memory)
    memory.undoing()
    await carried(memory, source, target, 2, kind="undo", intent="hand-over")
    assert source.holds() == FEW, done(memory)


@pytest.mark.parametrize("kind", NAMES)
async def test_an_empty_folder_goes_along_where_that_is_wanted(kinds, kind):
    source, target = kinds.place(kind), kinds.place("folder")
    source.fill({"empty/": b"", "x": b"1"})
    await carried(Memory(), source, target, folders="empty-too")
    assert (target.root / "empty").is_dir()
