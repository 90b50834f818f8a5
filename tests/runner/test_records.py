"""What a run writes down survives a database that is away for a while; nothing that works beside it
dies unheard.
"""

from __future__ import annotations

import asyncio

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pinecart.core.totals import Group, Sums
from pinecart.runner.records import BatchRules, Record, Recorder, RecordsLost
from pinecart.runner.run import beside
from pinecart.standins.bucket_behaviour import Behaviour
from tests.contracts.records import RecordsContract
from tests.runner.engine import Memory, done, posts, run


class Away(Memory):
    """A database that can't be written for so many saves."""

    def __init__(self, saves, error):
        super().__init__()
        self.left, self.error = saves, error

    async def save(self, batch):
        if self.left:
            self.left -= 1
            raise self.error
        await super().save(batch)


async def test_a_batch_that_could_not_be_saved_stays():
    saved, fails = [], [OSError("locked")]

    async def save(batch):
        if fails:
            raise fails.pop()
        saved.extend(batch)

    recorder = Recorder(save, BatchRules(rows=2))
    await recorder.add(Record(0, b"a", "copy", "new"))
    with pytest.raises(OSError, match="locked"):
        await recorder.add(Record(0, b"b", "copy", "new"))
    await recorder.add(Record(0, b"c", "copy", "new"))
    assert [r.key for r in saved] == [b"a", b"b", b"c"]


async def test_while_a_batch_is_saved_the_next_one_fills():
    saved, may_go_on = [], asyncio.Event()

    async def save(batch):
        await may_go_on.wait()
        saved.append([record.key for record in batch])

    recorder = Recorder(save, BatchRules(rows=2))
    keys = [b"%d" % n for n in range(5)]
    adding = [asyncio.ensure_future(recorder.add(Record(0, key, "copy", "new"))) for key in keys]
    await asyncio.sleep(0)
    assert [one.done() for one in adding] == [True, False, True, False, False]
    may_go_on.set()
    await asyncio.gather(*adding)
    await recorder.flush()
    assert saved == [keys[:2], keys[2:]]


async def test_records_that_are_lost_end_the_run_before_anything_is_removed(folder, office):
    server, opened = office
    memory = Memory()
    await run(memory, posts(folder), opened(), intent="mirror")
    lost = Away(1, RecordsLost("the database is locked"))
    lost.rows = memory.rows
    (folder / "a.flac").unlink()
    (folder / "new").write_bytes(b"new")
    with pytest.raises(RecordsLost):
        await run(
            lost, posts(folder), opened(), 2, intent="mirror", guards={"removals_percent": 100}
        )
    assert "a.flac" in server.shelf.buckets["dawn"]
    await run(
        lost,
        posts(folder),
        opened(),
        2,
        intent="mirror",
        guards={"removals_percent": 100},
        resume=True,
    )
    assert done(lost) == {"copy new": 1, "remove gone": 1}


async def test_a_defect_leaves_what_was_done_on_record(folder, office):
    class Broken(Memory):
        async def settled(self, leg):
            raise ZeroDivisionError

    memory = Broken()
    with pytest.raises(ZeroDivisionError):
        await run(memory, posts(folder), office[1](), batches=BatchRules(rows=1000, seconds=1000))
    assert done(memory) == {"copy new": 4}


@pytest.mark.parametrize("what", ["tell", "listen"])
async def test_what_works_beside_a_run_does_not_die_unheard(folder, office, what):
    server, opened = office

    class Deaf(Memory):
        times = 0

        async def failing(self, *args):
            self.times += 1
            if self.times == 2:
                raise RuntimeError("it can't be heard any more")

    setattr(Deaf, what, Deaf.failing)
    server.behaviour["put"] = Behaviour(delay_s=5)
    with pytest.raises(RuntimeError, match="heard"):
        await run(Deaf(), posts(folder), opened())


async def test_what_stands_beside_ends_with_the_work():
    ended = []

    async def forever():
        try:
            await asyncio.Event().wait()
        finally:
            ended.append("beside")

    async def work():
        await asyncio.sleep(0)
        return 7

    assert await beside(work(), forever(), forever()) == 7 and ended == ["beside"] * 2


GROUPS = st.builds(
    Group,
    st.sampled_from(["copy", "remove"]),
    st.just("new"),
    st.booleans(),
    st.sampled_from(["", "store.busy"]),
    st.sampled_from(["", "read-back"]),
    st.booleans(),
    st.booleans(),
)
CHANGES = st.lists(st.tuples(st.integers(0, 5), GROUPS, st.integers(0, 1 << 40)))


@given(st.lists(CHANGES))
def test_sums_that_grow_are_the_sums_of_what_is_there(batches):
    there, sums = {}, Sums()
    for batch in batches:
        new = {key: (group, size) for key, group, size in batch}
        gone = [there[key] for key in new if key in there]
        sums = Sums.read(sums.plain())
        sums.change(gone, new.values(), {g.error: "why" for g, _ in new.values() if g.error})
        there |= new
    wanted = {}
    for group, size in there.values():
        n, b = wanted.get(group, (0, 0))
        wanted[group] = (n + 1, b + size)
    found = {
        Group(*(told[f] for f in Group._fields)): (told["n"], told["b"]) for told in sums.plain()
    }
    assert found == wanted
    assert all(told.get("example") == "why" for told in sums.plain() if told["error"])


class TestMemory(RecordsContract):
    """The double that the engine's tests use is what the database is."""

    @pytest.fixture
    def records(self):
        return Memory()
