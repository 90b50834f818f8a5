"""Uploads that go on after a kill, how many at once, and how fast."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections import Counter

import pytest

from pinecart.core.errors import StoreError
from pinecart.core.ports import Room
from pinecart.drivers import open_store
from pinecart.drivers.curl_lines import AnswerBody
from pinecart.runner.concurrency import ConcurrencyController, Paced, Pacer
from pinecart.standins.bucket_behaviour import Account, Behaviour
from tests.runner.engine import Memory, done, posts, run
from tests.standin import KEY, SECRET, Busiest, running

LARGE = bytes(range(251)) * 200_000  # 50 MB: six pieces of 8 MiB


@pytest.fixture
def long(tmp_path):
    root = tmp_path / "posts"
    root.mkdir()
    (root / "long.flac").write_bytes(LARGE)
    return root


async def killed_at(memory, root, opened, parts, server):
    """A run whose process is gone after so many parts: nothing of it tidies up."""
    server.behaviour["part"] = Behaviour(delay_s=0.05)
    task = asyncio.ensure_future(run(memory, posts(root), opened()))
    while sum(len(u.parts) for u in server.shelf.uploads.values()) < parts:
        await asyncio.sleep(0.005)
    rows = dict(memory.journal.rows)
    server.accounts, known = {}, server.accounts  # from here on not a word of it arrives
    task.cancel()
    await asyncio.gather(task, return_exceptions=True)
    server.accounts, memory.journal.rows = known, rows
    server.behaviour.clear()


async def test_a_killed_run_sends_only_the_parts_that_are_missing(long, office):
    server, opened = office
    memory = Memory()
    await killed_at(memory, long, opened, 2, server)
    (upload,) = server.shelf.uploads.values()
    there, sent = len(upload.parts), server.counts["part"]
    assert there >= 2 and memory.journal.rows
    await run(memory, posts(long), opened(), resume=True)
    assert server.shelf.body("dawn", "long.flac") == LARGE and done(memory) == {"copy new": 1}
    assert (
        server.counts["part"] - sent <= 6 - there
        and not server.shelf.uploads
        and not memory.journal.rows
    )


async def test_parts_of_a_source_that_changed_are_not_used(long, office):
    server, opened = office
    memory = Memory()
    await killed_at(memory, long, opened, 2, server)
    (long / "long.flac").write_bytes(LARGE[::-1])
    await run(memory, posts(long), opened(), resume=True)
    assert server.shelf.body("dawn", "long.flac") == LARGE[::-1]
    assert not memory.journal.rows


async def test_what_was_begun_and_given_up_is_cleared_and_others_uploads_are_not(long, office):
    server, opened = office
    theirs = server.shelf.start_upload("dawn", "long.flac", {})
    server.shelf.uploads[theirs].started = time.time() - 3600
    near = server.shelf.start_upload("dawn", "long.flac-too", {})
    memory = Memory()
    await killed_at(memory, long, opened, 2, server)
    assert len(server.shelf.uploads) == 3
    (long / "long.flac").unlink()
    (long / "another").write_bytes(b"1")
    await run(memory, posts(long), opened(), resume=True)
    assert set(server.shelf.uploads) == {theirs, near}


async def test_a_part_that_is_not_what_we_sent_is_sent_again(long, office):
    server, opened = office
    memory = Memory()
    await killed_at(memory, long, opened, 2, server)
    (upload,) = server.shelf.uploads.values()
    number = min(upload.parts)
    upload.parts[number] = ("0" * 32, b"x" * len(upload.parts[number][1]), {})
    await run(memory, posts(long), opened(), resume=True)
    assert server.shelf.body("dawn", "long.flac") == LARGE


async def test_a_rate_is_kept_and_can_be_lifted_while_it_runs():
    pacer = Pacer()
    pacer.rate = 1000
    began = time.monotonic()
    for _ in range(4):
        await pacer.take(100)
    assert time.monotonic() - began > 0.28
    waiting = asyncio.gather(*(pacer.take(5000) for _ in range(3)))
    await asyncio.sleep(0.01)
    pacer.rate = None
    await asyncio.wait_for(waiting, 2)


@pytest.mark.parametrize("ceiling", [1, 3, 0])
async def test_no_more_at_once_than_the_store_bears(folder, ceiling):
    (folder / "long.flac").write_bytes(LARGE)
    for n in range(40):
        (folder / f"{n}.csv").write_bytes(b"%d" % n)
    with running("dawn", server=Busiest({KEY: Account(SECRET)})) as (server, endpoint):
        delay_s = 0.01 if ceiling else 0.15  # a busy machine asks slowly
        server.behaviour |= {
            kind: Behaviour(delay_s=delay_s) for kind in ("put", "part", "get", "list")
        }
        spec = {
            "kind": "s3",
            "name": "office",
            "endpoint": endpoint,
            "key_id": KEY,
            "secret": SECRET,
        }
        office = open_store(spec | {"allowed": ["127.0.0.0/8"], "most_at_once": str(ceiling)})
        memory = Memory()
        await run(memory, posts(folder), office)
        assert done(memory) == {"copy new": 45}
    assert server.most == ceiling or (not ceiling and server.most > 8)


@pytest.mark.parametrize(("seconds", "ceiling", "least"), [(0.02, 64, 32), (0.02, 4, 4)])
async def test_the_number_at_once_climbs_while_that_brings_more(seconds, ceiling, least):
    """A far side that answers any number at once, each after a while: as many as may
    be is right.
    """
    from pinecart.runner.pool import Pool

    width, most, now = ConcurrencyController(lambda: ceiling, 2), 0, 0

    async def work():
        nonlocal most, now
        now += 1
        most = max(most, now)
        await asyncio.sleep(seconds)
        now -= 1
        width.did(100)

    async with Pool(width) as pool:
        for _ in range(6000 if ceiling > 4 else 300):
            await pool.add(work)
        await pool.drain()
    assert least <= most <= ceiling


async def test_the_number_at_once_stays_small_where_more_bring_nothing():
    from pinecart.runner.pool import Pool

    width, seen, turn = ConcurrencyController(lambda: 64, 2), Counter(), asyncio.Semaphore(3)

    async def work():
        async with turn:  # only three are ever answered at once
            await asyncio.sleep(0.003)
        seen[width.now] += 1
        width.did(100)

    async with Pool(width) as pool:
        for _ in range(1500):
            await pool.add(work)
        await pool.drain()
    assert (
        sum(count for now, count in seen.items() if now > 16) < 500
    )  # a busy moment of the machine may mislead it for a while


async def test_a_pool_ends_also_where_a_job_has_lost_its_cancellation():
    from pinecart.runner.pool import Pool

    is_under_way = asyncio.Event()

    async def work():
        with contextlib.suppress(asyncio.CancelledError):
            is_under_way.set()
            await asyncio.Event().wait()

    async with asyncio.timeout(30), Pool(ConcurrencyController(lambda: 4, 2)) as pool:
        await pool.add(work)
        await is_under_way.wait()


async def test_small_files_do_not_wait_behind_a_row_of_large_ones(long, office):
    server, opened = office
    for n in range(40):
        (long / f"a{n:02}.flac").write_bytes(LARGE[: 9 << 20])
        (long / f"z{n:02}.csv").write_bytes(b"small")
    server.behaviour["part"] = Behaviour(delay_s=0.2)
    await run(Memory(), posts(long), opened())
    arrived = sorted(server.shelf.buckets["dawn"].items(), key=lambda t: t[1].modified)
    assert len(arrived) == 81
    last_small = max(n for n, (key, _) in enumerate(arrived) if key.startswith("z"))
    assert last_small < 60


async def test_no_words_are_lost_when_the_store_goes_away(long, office):
    server, opened = office
    memory = Memory()
    server.behaviour["part"] = Behaviour(fail="InternalError")
    ending = await run(memory, posts(long), opened())
    assert ending.error is None and memory.records[b"long.flac"].error == "store.busy"
    assert not server.shelf.uploads and not isinstance(ending.error, StoreError)


async def test_bytes_of_a_large_object_are_told_as_they_come():
    told, room = [], Room(100)

    class TriedTwice:
        """A line that is cut after a part of the piece, and asked again."""

        async def piece(self, start, size, into):
            for lengths in ((40,), (60, 40)):
                body = AnswerBody(size, into)
                for length in lengths:
                    body.take(bytes(length))
            return body.whole()

    found = await Paced(TriedTwice(), Pacer(), told.append).piece(0, 100, room)
    assert len(found) == 100
    assert told == [40, 60, 40, -40], "what came twice counts once in the end"
