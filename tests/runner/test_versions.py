"""The last versions of each object, carried oldest first: the far side keeps the same history,
whatever comes between.
"""

from __future__ import annotations

import pytest

from tests.runner.engine import Memory, done, run

THREE = {"from": "pine://posts/history/", "to": "pine://office/dawn/", "versions": 3}


class Killed(Exception):
    """Stands for the end of a process."""


class Mortal(Memory):
    """Dies when so many rows were to be committed; `late`: just after the last of them."""

    def __init__(self, rows, *, late):
        super().__init__()
        self.lives, self.late = rows, late

    async def before(self, asides, rows):
        self.lives -= 1
        if self.lives == 0 and not self.late:
            raise Killed
        await super().before(asides, rows)
        if self.lives == 0:
            raise Killed


@pytest.fixture
def history(office):
    """A bucket with five versions of one object and one of another; both sides keep versions."""
    server, opened = office
    server.shelf.make("history")
    server.shelf.versioned |= {"history", "dawn"}
    for n in range(5):
        server.shelf.put("history", "count.csv", b"version %d" % n, {})
    server.shelf.put("history", "note.txt", b"one", {})
    return server, opened


def bodies(server, key):
    """All versions in the bucket `dawn`, oldest first."""
    past = [v.body for v in server.shelf.versions("dawn", key)[1:] if not v.gone]
    return [*reversed(past), server.shelf.body("dawn", key)]


async def test_the_last_versions_arrive_oldest_first_and_only_what_is_missing_later(history):
    server, opened = history
    memory = Memory()
    await run(memory, opened(), opened(), **THREE)
    assert bodies(server, "count.csv") == [b"version 2", b"version 3", b"version 4"]
    assert bodies(server, "note.txt") == [b"one"]
    assert memory.records[b"count.csv"].message == "After 2 older versions of it."
    for n in (5, 6):
        server.shelf.put("history", "count.csv", b"version %d" % n, {})
    await run(memory, opened(), opened(), 2, **THREE)
    assert bodies(server, "count.csv") == [b"version %d" % n for n in (2, 3, 4, 5, 6)]
    assert (await run(memory, opened(), opened(), 3, **THREE)).acted == 0


@pytest.mark.parametrize("late", [False, True], ids=["unwritten", "written"])
@pytest.mark.parametrize("rows", [1, 2])
async def test_a_history_that_was_cut_is_gone_on_with_after_its_last_version(history, rows, late):
    server, opened = history
    memory = Mortal(rows, late=late)
    with pytest.raises(Killed):
        await run(memory, opened(), opened(), **THREE)
    guards = {"replacements_percent": 100}
    await run(memory, opened(), opened(), **THREE, guards=guards, resume=True)
    assert bodies(server, "count.csv") == [b"version 2", b"version 3", b"version 4"]
    assert (await run(memory, opened(), opened(), 2, **THREE, guards=guards)).acted == 0


async def test_where_one_side_keeps_no_versions_the_present_one_is_carried(history):
    server, opened = history
    server.shelf.versioned.discard("dawn")
    memory = Memory()
    await run(memory, opened(), opened(), **THREE)
    assert done(memory) == {"copy new": 2}
    assert server.shelf.body("dawn", "count.csv") == b"version 4"
