"""Whole runs against stores and sources as they are: folders that became files, names one below the
other, copies by the store.
"""

from __future__ import annotations

import asyncio
from collections import Counter

import pytest

from pinecart.drivers import open_store
from pinecart.runner.progress import Progress
from pinecart.runner.records import BatchRules
from pinecart.runner.run import carry_out
from pinecart.standins.bucket_behaviour import Behaviour
from tests.repeats import first
from tests.runner.engine import QUICK, Memory, done, order_from, posts, run

FREE = {"removals": 1000, "removals_percent": 100, "replacements_percent": 100, "lost_percent": 100}


async def test_a_mirror_converges_after_a_folder_became_a_file(folder, office):
    server, opened = office
    memory = Memory()
    await run(memory, posts(folder), opened(), intent="mirror")
    for file in (folder / "sub").iterdir():
        file.unlink()
    (folder / "sub").rmdir()
    (folder / "sub").write_bytes(b"a file now")
    await run(memory, posts(folder), opened(), 2, intent="mirror", guards=FREE)
    assert done(memory) == {"copy new": 1, "remove gone": 2}
    aside = [("office", b"dawn/.pinecart-aside/2/")]
    ending = await run(memory, posts(folder), opened(), 3, intent="mirror", guards=FREE, ours=aside)
    assert ending.acted == 0 and not done(memory)
    assert set(server.shelf.buckets["dawn"]) - {"a.flac", "empty", "sub"} == {
        k for k in server.shelf.buckets["dawn"] if k.startswith(".pinecart-aside/")
    }


@pytest.mark.parametrize("turn", range(3))
async def test_a_file_and_what_lies_below_its_name_always_give_the_same(office, tmp_path, turn):
    server, opened = office
    for key in ("clash", "clash-x", "clash.d", "clash/below", "clash/below/more", "clash0", "z/y"):
        server.shelf.put("dawn", key, key.encode(), {})
    server.behaviour["get"] = Behaviour(delay_s=0.05, match=("clash", "below", "z")[turn])
    there = tmp_path / "there"
    there.mkdir()
    memory = Memory()
    target = open_store({"kind": "folder", "name": "office", "path": str(there)})
    await run(memory, opened(), target, to="pine://office/", **{"from": "pine://posts/dawn/"})
    found = {str(p.relative_to(there)) for p in there.rglob("*") if p.is_file()}
    assert found == {"clash", "clash-x", "clash.d", "clash0", "z/y"}
    refused = {k.decode() for k, r in memory.records.items() if r.error == "below-a-file"}
    assert refused == {"clash/below", "clash/below/more"}


async def test_names_that_do_not_fit_are_refused_before_they_are_read(folder, office):
    server, opened = office
    (folder / ("d" * 250) / ("e" * 250) / ("f" * 250)).mkdir(parents=True)
    long = folder / ("d" * 250) / ("e" * 250) / ("f" * 250) / ("g" * 250)
    long.write_bytes(b"1")
    memory = Memory()
    await run(memory, posts(folder), opened(), to="pine://office/dawn/" + "p" * 50 + "/")
    (refused,) = [r for r in memory.records.values() if r.error]
    assert (refused.decision, refused.error) == (
        "refuse",
        "unsafe-name",
    ) and "1,024" in refused.message
    assert server.counts["put"] - 2 == 4  # and two probes


async def test_a_job_that_always_sends_is_not_held_for_it_and_counts_once(folder, office):
    _, opened = office
    for n in range(40):
        (folder / f"{n:02}").write_bytes(b"x")
    memory = Memory()
    await run(memory, posts(folder), opened(), compare="always")
    ending = await run(memory, posts(folder), opened(), 2, compare="always")
    assert not ending.held and done(memory) == {"replace always": 44}
    ending = await run(
        memory, posts(folder), opened(), 2, compare="always", resume=True
    )  # it was interrupted at its end
    assert ending.acted == 0 and done(memory) == {"replace always": 44}


async def inside(memory, opened, number=1, **job):
    here, there = "pine://posts/dawn/", "pine://office/copy/"
    return await carry_out(
        order_from(opened(), here, opened(), there, number=number, **job), memory
    )


async def test_a_copy_inside_one_store_takes_one_request(office):
    server, opened = office
    server.shelf.make("copy")
    for n in range(30):
        server.shelf.put(
            "dawn",
            f"{n:02}",
            b"%d" % n,
            {"x-amz-meta-post": "brockwen", "cache-control": "no-store"},
        )
    warm = Memory()
    await inside(warm, opened)  # the probe of the bucket
    server.shelf.buckets["copy"].clear()
    server.shelf._order["copy"].clear()
    before, memory = Counter(server.counts), Memory()
    await inside(memory, opened, 2)
    used = server.counts - before
    asked_once = 2  # whether a copy's conditions are held, of its source and of its place
    assert used["copy"] == 30 + asked_once and not used["get"]
    assert used["head"] == 1  # whether there was a source, where a copy found nothing to match
    assert {r.proof for r in memory.records.values()} == {"server-copy"}
    assert server.shelf.buckets["copy"]["07"].headers["cache-control"] == "no-store"


async def test_a_copy_whose_answer_was_lost_is_recognised(office):
    server, opened = office
    server.shelf.make("copy")
    server.shelf.put("dawn", "a", b"song", {})
    server.behaviour["copy"] = Behaviour(lost=True, times=1)
    memory = Memory()
    ending = await inside(memory, opened)
    assert (
        ending.error is None
        and memory.records[b"a"].proof == "server-copy"
        and not memory.records[b"a"].error
    )


@pytest.mark.parametrize("replaced", [False, True])
async def test_tags_that_a_copy_would_lose_go_through_us(office, replaced):
    server, opened = office
    server.old = frozenset({"copies-garble-tags"})
    server.shelf.make("copy")
    server.shelf.put("dawn", "a", b"song", {"x-amz-tagging": "post=Brockwen"})
    if replaced:
        server.shelf.put("copy", "a", b"older", {})
    memory = Memory()
    await inside(memory, opened, keep=["tags"])
    assert server.shelf.buckets["copy"]["a"].headers["x-amz-tagging"] == "post=Brockwen"
    assert memory.records[b"a"].proof == "server-verified" and not memory.records[b"a"].error


async def test_headers_that_a_folder_can_not_keep_are_told(office, tmp_path):
    server, opened = office
    server.shelf.put("dawn", "a", b"song", {"cache-control": "no-store", "expires": "0"})
    memory = Memory()
    target = open_store({"kind": "folder", "name": "office", "path": str(tmp_path)})
    await run(memory, opened(), target, to="pine://office/", **{"from": "pine://posts/dawn/"})
    assert memory.records[b"a"].message == "Not kept there: cache-control, expires."


async def test_the_bytes_of_a_large_object_count_as_they_go(office, tmp_path):
    server, opened = office
    (tmp_path / "long").write_bytes(b"x" * (40 << 20))
    server.behaviour["part"] = Behaviour(delay_s=0.1)
    seen = []

    class Watched(Memory):
        async def tell(self, progress):
            seen.append(progress["done"])

        async def listen(self): ...

    await run(Watched(), posts(tmp_path), opened())
    partly = [d["bytes"] for d in seen if not d["objects"] and d["bytes"]]
    assert partly and seen[-1] == {"objects": 1, "bytes": 40 << 20}


def test_what_is_tried_again_counts_once():
    progress = Progress()
    progress.start(b"k", 10)
    progress.moved(b"k", 7)
    progress.again(b"k")
    progress.moved(b"k", 10)
    assert progress.snapshot()["done"] == {"objects": 0, "bytes": 10}
    progress.end(b"k", 10)
    progress.moved(b"k", 3)  # a late word of what is over
    assert progress.snapshot()["done"] == {"objects": 1, "bytes": 10}


async def test_a_store_that_is_away_for_a_while_is_waited_for(folder, office):
    """So long as the setting says; the other errors are listed at once."""
    server, opened = office
    memory = Memory()
    server.behaviour["put"] = Behaviour(fail="InternalError", match="a.flac")
    retry = QUICK._replace(for_s=1.5, longest_s=0.2)

    async def back():
        await asyncio.sleep(0.01)
        while server.counts["put"] < 12:
            await asyncio.sleep(0.01)
        server.behaviour.clear()

    order = order_from(posts(folder), "pine://posts/", opened(), "pine://office/dawn/")
    order = order._replace(retry=retry)
    ending, _ = await asyncio.gather(carry_out(order, memory), back())
    assert (
        ending.error is None
        and done(memory) == {"copy new": 4}
        and memory.records[b"a.flac"].tries > 3
    )


@pytest.mark.parametrize(
    "kind", first(2, ["part", "list", "head", "put", "start-upload", "delete"])
)
async def test_a_stop_is_heard_whatever_a_silent_server_holds_up(folder, office, kind):
    """It accepts, and never answers; the run ends all the same, and what it waited for was told."""
    server, opened = office
    (folder / "long").write_bytes(b"x" * (9 << 20))
    memory = Memory()
    if kind in ("head", "delete"):
        await run(memory, posts(folder), opened(), intent="mirror", guards=FREE)
        (folder / "a.flac").unlink()
        (folder / "sub/b.csv").write_bytes(b"changed")
    server.behaviour[kind] = Behaviour(delay_s=600)
    told = []

    class Stopped(Memory):
        async def tell(self, progress):
            told.append(progress["waits_for"])
            if "has not answered" in progress["waits_for"]:
                self.stop = True

    again = Stopped()
    again.rows = memory.rows
    loop = asyncio.get_running_loop()
    began = loop.time()
    ending = await run(again, posts(folder), opened(), 2, intent="mirror", guards=FREE)
    assert (
        ending.stopped
        and ending.error is None
        and any("office has not answered for" in words for words in told)
    )
    assert loop.time() - began < 60
    server.behaviour.clear()
    ending = await run(
        again,
        posts(folder),
        opened(),
        2,
        intent="mirror",
        guards=FREE,
        resume=True,
        ours=[("office", b"dawn/.pinecart-aside/2/")],
    )


async def test_another_disk_at_a_root_ends_the_run_before_anything_is_written(
    folder, tmp_path, office
):
    """As when a disk is unmounted in mid-run: what lies at its mount point is another folder."""
    server, opened = office
    for n in range(200):
        server.shelf.put("dawn", f"{n:03}", b"x" * 100, {})
    there = tmp_path / "there"
    there.mkdir()
    memory = Memory()

    class Unmounts(Memory):
        async def save(self, batch):
            await super().save(batch)
            if not (tmp_path / "mounted").exists():
                there.rename(tmp_path / "mounted")
                there.mkdir()

    memory = Unmounts()
    server.behaviour["get"] = Behaviour(per_second=200)
    target = open_store({"kind": "folder", "name": "office", "path": str(there)})
    source = {"from": "pine://posts/dawn/"}
    ending = await run(
        memory, opened(), target, to="pine://office/", **source, batches=BatchRules(rows=20)
    )
    assert ending.error is not None and ending.error.code == "store.not-the-same"
    assert list(there.iterdir()) == []
    placed = {k for k, r in memory.records.items() if r.done}
    assert {p.name.encode() for p in (tmp_path / "mounted").iterdir()} >= placed and len(
        placed
    ) < 200
