"""Whole runs of the engine over real drivers, with a ledger in memory."""

from __future__ import annotations

import asyncio
import contextlib
import os
from collections import Counter

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pinecart.core.checksum import crc_of
from pinecart.core.decide import Decision
from pinecart.core.definition_reading import read_definition
from pinecart.drivers import open_store
from pinecart.drivers.memory import MemoryStore
from pinecart.drivers.s3.sizes import Sizes
from pinecart.drivers.s3.store import S3Store
from pinecart.runner.run import carry_out
from pinecart.standins.bucket_behaviour import Behaviour
from tests.runner.engine import Memory, done, order_from, posts, run

LARGE = bytes(range(251)) * 70_000  # 17 MB: three pieces


async def test_only_what_is_new_or_changed_is_carried(folder, office):
    server, opened = office
    memory = Memory()
    ending = await run(memory, posts(folder), opened(), take=[])
    assert ending.error is None and done(memory) == {"copy new": 4}
    assert ending.far_side == {
        "objects": 4,
        "bytes": sum(f.stat().st_size for f in folder.rglob("*") if f.is_file()),
        "differences": 0,
    }
    assert {r.proof for r in memory.records.values()} == {"server-verified"}
    before = Counter(server.counts)
    ending = await run(memory, posts(folder), opened(), 2)
    assert ending.acted == 0 and {k for k, n in (server.counts - before).items() if n} == {"list"}
    (folder / "a.flac").write_bytes(b"changed")
    (folder / "new").write_bytes(b"new")
    await run(memory, posts(folder), opened(), 3)
    assert done(memory) == {"replace changed": 1, "copy new": 1}
    assert server.shelf.body("dawn", "a.flac") == b"changed"


async def test_without_the_ledger_everything_is_recognised(folder, office):
    server, opened = office
    memory = Memory()
    await run(memory, posts(folder), opened())
    puts = server.counts["put"]
    memory.rows.clear()
    ending = await run(memory, posts(folder), opened(), 2)
    assert (ending.acted, server.counts["put"], done(memory)) == (0, puts, {"leave recognised": 4})


async def test_what_somebody_changed_there_is_listed_and_left(folder, office):
    server, opened = office
    memory = Memory()
    await run(memory, posts(folder), opened())
    server.shelf.put("dawn", "a.flac", b"other", {})
    await run(memory, posts(folder), opened(), 2)
    assert done(memory) == {"leave changed-there (changed-there)": 1}
    (folder / "a.flac").write_bytes(b"here too")
    await run(memory, posts(folder), opened(), 3)
    assert done(memory) == {"refuse both-changed (both-changed)": 1}
    assert server.shelf.body("dawn", "a.flac") == b"other"
    await run(memory, posts(folder), opened(), 4, on_difference="replace-all")
    assert server.shelf.body("dawn", "a.flac") == b"here too"


async def test_top_up_touches_nothing_that_exists(folder, office):
    server, opened = office
    server.shelf.put("dawn", "a.flac", b"theirs", {})
    memory = Memory()
    ending = await run(memory, posts(folder), opened(), intent="top-up")
    assert done(memory) == {"copy new": 3} and ("leave", "exists", 1, 18) in ending.counted
    assert server.shelf.body("dawn", "a.flac") == b"theirs"


async def test_selection_comes_first(folder, office):
    _, opened = office
    memory = Memory()
    ending = await run(memory, posts(folder), opened(), take=["sub/**"], leave_out=["*.csv"])
    assert (
        sorted(memory.records) == ["sub/é +%.txt".encode()]
        and sum(n for _, r, n, _ in ending.counted if r == "left-out") == 3
    )


async def test_back_into_a_folder_with_its_times(folder, office, tmp_path):
    _, opened = office
    await run(Memory(), posts(folder), opened())
    (tmp_path / "back").mkdir()
    back, memory = tmp_path / "back", Memory()
    source, target = opened(), open_store({"kind": "folder", "name": "office", "path": str(back)})
    for number in (1, 2):
        memory.records.clear()
        order = order_from(source, "pine://posts/dawn/", target, number=number, tmp=tmp_path)
        ending = await carry_out(order, memory)
        assert ending.error is None and len(memory.records) == (4 if number == 1 else 0)
    files = {
        f.relative_to(back): (f.read_bytes(), f.stat().st_mtime_ns)
        for f in back.rglob("*")
        if f.is_file()
    }
    assert files == {
        f.relative_to(folder): (f.read_bytes(), 10**18) for f in folder.rglob("*") if f.is_file()
    }


async def test_a_refused_object_never_stops_the_others(folder, office):
    server, opened = office
    server.behaviour["put"] = Behaviour(fail="AccessDenied", match="b.csv")
    memory = Memory()
    ending = await run(memory, posts(folder), opened())
    assert done(memory) == {"copy new": 3, "copy new (store.refused)": 1} and ending.error is None
    assert "may not do that" in memory.records[b"sub/b.csv"].message


async def test_a_lost_answer_is_found_to_be_our_own_write(folder, office):
    server, opened = office
    memory = Memory()
    server.behaviour["put"] = Behaviour(lost=True, times=2, match="a.flac")
    ending = await run(memory, posts(folder), opened())
    assert ending.error is None and done(memory) == {"copy new": 4}
    assert (
        memory.records[b"a.flac"].tries == 2
        and server.shelf.body("dawn", "a.flac") == b"a.flac" * 3
    )


async def test_busy_is_tried_again_and_given_up_at_last(folder, office):
    server, opened = office
    server.behaviour["put"] = Behaviour(fail="InternalError", times=2, match="a.flac")
    memory = Memory()
    await run(memory, posts(folder), opened())
    assert memory.records[b"a.flac"].tries == 3 and done(memory) == {"copy new": 4}


@pytest.mark.parametrize(
    "old", ["conditions-refused", "conditions-ignored", "checksums-ignored", "listing-1"]
)
async def test_old_servers_are_served_too(folder, office, old):
    server, opened = office
    server.old, server.most_keys = frozenset([old]), 2
    (folder / "long.flac").write_bytes(LARGE)
    os.utime(folder / "long.flac", ns=(10**18, 10**18))
    memory = Memory()
    await run(memory, posts(folder), opened())
    assert done(memory) == {"copy new": 5}
    assert {r.proof for r in memory.records.values()} == (
        {"size-only"} if old == "checksums-ignored" else {"server-verified"}
    )
    assert sorted(server.shelf.buckets["dawn"]) == sorted(
        k.decode() for k in memory.records
    )  # no probe is left
    assert {r.guarded for r in memory.records.values()} == {
        old not in ("conditions-refused", "conditions-ignored")
    }
    ending = await run(memory, posts(folder), opened(), 2)
    assert (ending.acted, ending.error, done(memory)) == (0, None, {})
    memory.rows.clear()
    await run(memory, posts(folder), opened(), 3)
    assert done(memory) == {"leave recognised": 5}


@pytest.mark.parametrize("lie", ["listing-cut", "listing-unordered", "listing-repeats"])
async def test_a_listing_that_lies_ends_the_run_and_nothing_is_replaced(folder, office, lie):
    server, opened = office
    memory = Memory()
    await run(memory, posts(folder), opened())
    before = {k: t.etag for k, t in server.shelf.buckets["dawn"].items()}
    server.old = frozenset([lie])
    (folder / "a.flac").write_bytes(b"changed")
    ending = await run(memory, posts(folder), opened(), 2)
    assert ending.error is not None and ending.error.code in (
        "listing.incomplete",
        "listing.out-of-order",
        "store.cut",
    )
    assert {k: t.etag for k, t in server.shelf.buckets["dawn"].items()} == before


async def test_an_interrupted_run_counts_nothing_twice(folder, office):
    _, opened = office
    memory = Memory()

    whole = memory.save

    async def half(batch):
        await whole(batch[:2])
        raise RuntimeError("killed")

    memory.save = half
    with pytest.raises(RuntimeError):
        await run(memory, posts(folder), opened())
    assert len(memory.records) == 2
    memory.save = whole
    ending = await run(memory, posts(folder), opened(), resume=True)
    assert done(memory) == {"copy new": 4} and not any(r == "same" for _, r, *_ in ending.counted)


async def test_a_growing_source_is_never_placed_half(folder, tmp_path):
    target, source, memory = MemoryStore("office", {}), posts(folder), Memory()
    (folder / "a.flac").write_bytes(b"a" * 100_000)
    original = source.open

    @contextlib.asynccontextmanager
    async def opened(key, expected=None):
        async with original(key, expected) as reading:
            if key == b"a.flac":
                with (folder / "a.flac").open("ab") as file:
                    file.write(b"+")
            yield reading

    source.open = opened
    await run(memory, source, target)
    assert done(memory) == {"copy new": 3, "copy new (keeps-changing)": 1}
    assert b"dawn/a.flac" not in target.objects and memory.records[b"a.flac"].tries == 3


async def test_preview_decides_the_same_and_acts_on_nothing(folder, office):
    server, opened = office
    memory = Memory()
    await run(memory, posts(folder), opened(), kind="preview")
    assert done(memory) == {"copy new": 4} and server.counts["put"] == 0 and not memory.rows


async def test_an_audit_finds_exactly_what_was_done_there(folder, office):
    server, opened = office
    memory = Memory()
    await run(memory, posts(folder), opened())
    server.shelf.delete("dawn", "empty")
    server.shelf.put("dawn", "a.flac", b"A" * 18, {})
    await run(memory, posts(folder), opened(), 2, kind="audit")
    assert {k: r.reason for k, r in memory.records.items()} == {
        b"empty": "only-here",
        b"a.flac": "changed-since",
    }


async def test_a_source_that_is_not_there_fails_the_run(folder, office):
    _, opened = office
    store = open_store({"kind": "folder", "name": "posts", "path": str(folder / "nowhere")})
    ending = await run(Memory(), store, opened())
    assert ending.error is not None and ending.error.code == "store.no-root"


names = st.dictionaries(
    st.sampled_from(["a", "a/b", "a.txt", "b/c/d", "b-old/x", "é", "z"]),
    st.binary(max_size=6),
    max_size=7,
)


@settings(max_examples=150, deadline=None)
@given(
    first=names,
    then=names,
    theirs=names,
    forget=st.booleans(),
    intent=st.sampled_from(["top-up", "renew"]),
)
async def test_whatever_came_before_the_intent_holds_and_the_second_run_has_nothing_to_do(
    first, then, theirs, forget, intent
):
    source, target, memory = MemoryStore("posts", {}), MemoryStore("office", {}), Memory()
    target.set(b"dawn-old/kept", b"kept")

    def hold(files):
        source.objects.clear()
        for name, body in files.items():
            source.set(name.encode(), body)

    hold(first)
    await run(memory, source, target, 1, intent=intent)
    hold(then)
    for name, body in theirs.items():
        target.set(b"dawn/" + name.encode(), body)
    if forget:
        memory.rows.clear()
    before = dict(target.objects)
    await run(memory, source, target, 2, intent=intent)
    problems = {k for k, r in memory.records.items() if r.error}
    for name, body in then.items():
        far = target.objects[b"dawn/" + name.encode()].body
        existed = b"dawn/" + name.encode() in before
        assert far == body or name.encode() in problems or (intent == "top-up" and existed)
    for key, held in before.items():
        name = key.removeprefix(b"dawn/").decode()
        if name not in then or not key.startswith(b"dawn/") or (intent == "top-up"):
            assert target.objects[key].body == held.body
    for row in memory.rows.values():
        if row.key.decode() in then and row.run == 2:
            assert row.crc == crc_of(then[row.key.decode()])
    ending = await run(memory, source, target, 3, intent=intent)
    assert ending.acted == 0 and {r.key for r in memory.records.values() if r.error} == problems
    assert not any(r.decision in (Decision.COPY, Decision.REPLACE) for r in memory.records.values())


async def test_large_objects_go_in_parts_both_ways_and_are_known_again(folder, office, tmp_path):
    server, opened = office
    (folder / "long.flac").write_bytes(LARGE)
    os.utime(folder / "long.flac", ns=(10**18, 10**18))
    memory = Memory()
    await run(memory, posts(folder), opened())
    assert (
        server.counts["part"] == 3 + 1  # one asks whether a condition is held
        and server.shelf.body("dawn", "long.flac") == LARGE
        and not server.shelf.uploads
    )
    record = memory.records[b"long.flac"]
    assert (record.crc, record.proof) == (crc_of(LARGE), "server-verified")
    (tmp_path / "back").mkdir()
    back = open_store({"kind": "folder", "name": "office", "path": str(tmp_path / "back")})
    order = order_from(opened(), "pine://posts/dawn/", back, tmp=tmp_path)
    for forget in (False, True):
        kept = Memory() if forget else memory
        kept.rows.clear()
        kept.records.clear()
        await carry_out(order, kept)
        assert done(kept) == ({"leave recognised": 5} if forget else {"copy new": 5})
    assert (tmp_path / "back/long.flac").read_bytes() == LARGE and (
        tmp_path / "back/long.flac"
    ).stat().st_mtime_ns == 10**18
    memory.rows.clear()
    await run(memory, posts(folder), opened(), 3)
    assert done(memory) == {"leave recognised": 5}


async def test_parts_that_fail_are_aborted_and_the_others_carried(folder, office):
    server, opened = office
    (folder / "long.flac").write_bytes(LARGE)
    for fail, code in (("AccessDenied", "store.refused"), ("InternalError", "store.busy")):
        server.behaviour["part"] = Behaviour(fail=fail, match="long")
        memory = Memory()
        await run(memory, posts(folder), opened())
        assert done(memory)[f"copy new ({code})"] == 1 and not server.shelf.uploads
    assert len(server.shelf.buckets["dawn"]) == 4


async def once(true):
    while not true():
        await asyncio.sleep(0.01)


async def test_an_upload_that_somebody_takes_away_is_begun_anew(folder, office):
    """A rule of the bucket, say, that clears what is unfinished."""
    server, opened = office
    (folder / "long.flac").write_bytes(LARGE)
    server.behaviour["part"] = Behaviour(delay_s=0.2, times=1)
    memory = Memory()
    running = asyncio.create_task(run(memory, posts(folder), opened()))
    await once(lambda: server.counts["part"])
    server.shelf.uploads.clear()
    await running
    assert done(memory) == {"copy new": 5} and memory.records[b"long.flac"].tries == 2
    assert server.shelf.body("dawn", "long.flac") == LARGE and not server.shelf.uploads


async def test_what_goes_away_is_told_from_a_place_that_does(folder, office, tmp_path):
    server, opened = office
    server.behaviour["put"] = Behaviour(fail="NoSuchBucket", match="b.csv")
    memory = Memory()
    await run(memory, posts(folder), opened())
    assert done(memory) == {"copy new": 3, "copy new (store.no-bucket)": 1}
    assert "went away" not in memory.records[b"sub/b.csv"].message
    server.behaviour["get"] = Behaviour(delay_s=0.2, match="a.flac")
    (tmp_path / "back").mkdir()
    back = open_store({"kind": "folder", "name": "back", "path": str(tmp_path / "back")})
    running = asyncio.create_task(
        carry_out(order_from(opened(), "pine://posts/dawn/", back, tmp=tmp_path), memory)
    )
    await once(lambda: server.counts["get"])
    server.shelf.delete("dawn", "a.flac")
    await running
    assert memory.records[b"a.flac"].error == "gone-meanwhile"


async def test_a_lost_answer_to_the_last_step_is_found_to_be_our_own(folder, office):
    server, opened = office
    (folder / "long.flac").write_bytes(LARGE)
    server.behaviour["complete"] = Behaviour(lost=True, times=1, match="long")
    memory = Memory()
    await run(memory, posts(folder), opened())
    assert done(memory) == {"copy new": 5} and memory.records[b"long.flac"].tries == 2


async def test_inside_one_system_nothing_passes_through_us(folder, office, monkeypatch):
    server, opened = office
    await run(Memory(), posts(folder), opened())
    server.shelf.make("second")
    before = Counter(server.counts)
    order = order_from(opened(), "pine://posts/dawn/", opened(), "pine://office/second/")
    memory = Memory()
    await carry_out(order, memory)
    used = Counter(server.counts) - before
    assert (
        used["copy"] == 4 + 2  # asked once: whether its conditions are held
        and used["get"] == 0
        and {r.proof for r in memory.records.values()} == {"server-copy"}
    )
    assert {r.crc for r in memory.records.values()} == {
        crc_of(server.shelf.body("dawn", k)) for k in server.shelf.buckets["dawn"]
    }
    server.shelf.put("dawn", "later", b"1", {})
    server.behaviour["copy"] = Behaviour(fail="AccessDenied")
    await carry_out(order._replace(run=3), memory)
    assert (
        server.shelf.body("second", "later") == b"1"
        and memory.records[b"later"].proof == "server-verified"
    )
    server.behaviour.clear()
    server.shelf.put("dawn", "by us", b"1", {})
    copies = server.counts["copy"]
    insists = read_definition(order.definition.as_mapping() | {"route": "through-us"})
    await carry_out(order._replace(run=5, definition=insists), memory)
    assert memory.records[b"by us"].proof == "server-verified" and server.counts["copy"] == copies
    store = order.stores["office"]
    in_parts = S3Store(store.client, store._facts, Sizes(copied_whole=5))
    order = order._replace(stores={**order.stores, "office": in_parts})
    server.shelf.put("dawn", "longer", b"in parts", {})
    await carry_out(order._replace(run=4), memory)
    assert (
        server.shelf.body("second", "longer") == b"in parts"
        and memory.records[b"longer"].proof == "size-only"
    )  # nothing was told of its content


async def test_folder_to_folder_is_copied_by_the_kernel_and_proven(folder, tmp_path):
    (tmp_path / "far").mkdir()
    far, memory = (
        open_store({"kind": "folder", "name": "office", "path": str(tmp_path / "far")}),
        Memory(),
    )
    await run(memory, posts(folder), far)
    assert {r.proof for r in memory.records.values()} == {"read-back"}
    assert (tmp_path / "far/dawn/sub/b.csv").read_bytes() == (folder / "sub/b.csv").read_bytes()
    await run(memory, posts(folder), far, 2)
    assert done(memory) == {}


@pytest.mark.parametrize("compare", ["size-and-time", "checksum", "size", "always"])
async def test_the_other_comparisons(folder, office, compare):
    server, opened = office
    memory = Memory()
    await run(memory, posts(folder), opened(), compare=compare)
    for forget in (False, True):
        if forget:
            memory.rows.clear()
        ending = await run(memory, posts(folder), opened(), 2, compare=compare)
        assert ending.acted == (4 if compare == "always" else 0), (forget, done(memory))
    (folder / "a.flac").write_bytes(b"A.FLAC" * 3)  # the same size
    ending = await run(memory, posts(folder), opened(), 3, compare=compare)
    assert ending.acted == {"size": 0, "always": 4}.get(compare, 1)
    server.shelf.put("dawn", "empty", b"by somebody", {})
    await run(memory, posts(folder), opened(), 4, compare=compare)
    assert (server.shelf.body("dawn", "empty") == b"by somebody") or compare == "size"


async def test_keep_both_gives_the_one_there_a_dated_name(folder, office):
    server, opened = office
    server.shelf.put("dawn", "a.flac", b"theirs", {})
    memory = Memory()
    await run(
        memory, posts(folder), opened(), on_difference="keep-both", stamp="2026-03-02 05.30.00"
    )
    assert server.shelf.body("dawn", "a (2026-03-02 05.30.00).flac") == b"theirs"
    assert server.shelf.body("dawn", "a.flac") == (folder / "a.flac").read_bytes()
    ending = await run(
        memory, posts(folder), opened(), 2, on_difference="keep-both", stamp="2026-03-03 05.30.00"
    )
    assert ending.acted == 0


async def test_size_and_time_rules_take_exactly_what_matches_and_are_counted(folder, office):
    _, opened = office
    (folder / "new").write_bytes(b"12345")
    memory = Memory()
    ending = await run(
        memory,
        posts(folder),
        opened(),
        larger_than="4",
        smaller_than="20",
        changed_within="32 days",
        ignore_case=True,
        take=["NEW", "a.flac"],
    )
    assert list(memory.records) == [b"new"]
    assert {r: n for _, r, n, _ in ending.counted} == {"other-time": 1, "left-out": 3}
    memory = Memory()
    ending = await run(memory, posts(folder), opened(), 2, until="2001-09-09", larger_than="1 B")
    assert (
        sorted(memory.records) == [b"a.flac", b"sub/b.csv", "sub/é +%.txt".encode()]
        and ("leave", "other-size", 1, 0) in ending.counted
    )


@pytest.mark.parametrize(
    ("rename", "wanted"),
    [
        (
            {"pattern": r"^sub/(.*)\.csv$", "to": r"sheets/\1-old.csv"},
            ["a.flac", "empty", "sheets/b-old.csv", "sub/é +%.txt"],
        ),
        (
            {"to": "{year}/{month}/{folder}{name}-{day}{ending}"},
            [
                "2001/09/a-09.flac",
                "2001/09/empty-09",
                "2001/09/sub/b-09.csv",
                "2001/09/sub/é +%-09.txt",
            ],
        ),
        ({"to": "{counter}{ending}"}, ["0001.flac", "0002", "0003.csv", "0004.txt"]),
    ],
)
async def test_renaming_on_the_way(folder, office, rename, wanted):
    server, opened = office
    memory = Memory()
    await run(memory, posts(folder), opened(), rename=rename)
    assert sorted(server.shelf.buckets["dawn"]) == wanted and done(memory) == {"copy new": 4}
    for number, kind in ((2, "transfer"), (3, "audit")):
        ending = await run(memory, posts(folder), opened(), number, rename=rename, kind=kind)
        assert ending.acted == 0 and not memory.records
    (folder / "sub/b.csv").write_bytes(b"changed")
    os.utime(folder / "sub/b.csv", ns=(10**18, 10**18))
    await run(memory, posts(folder), opened(), 4, rename=rename)
    assert done(memory) == {"replace changed": 1}


async def test_two_files_for_one_new_name_are_a_clash_and_neither_is_carried(folder, office):
    server, opened = office
    memory = Memory()
    await run(
        memory, posts(folder), opened(), rename={"pattern": ".*(a.flac|b.csv)$", "to": "same"}
    )
    assert (
        done(memory) == {"copy new": 2, "refuse name-clash (name-clash)": 1}
        and "same" not in server.shelf.buckets["dawn"]
    )


@pytest.mark.parametrize("through_us", [False, True])
async def test_type_and_metadata_of_an_object_go_with_it(office, through_us, tmp_path):
    server, opened = office
    kept = {
        "content-type": "audio/flac",
        "x-amz-meta-post": "brockwen",
        "cache-control": "max-age=60",
        "expires": "0",
        "content-disposition": "inline",
        "content-encoding": "identity",
        "content-language": "cy",
    }
    server.shelf.put("dawn", "small", b"song", dict(kept))
    server.shelf.put("dawn", "long", LARGE, dict(kept))
    server.shelf.make("second")
    if through_us:
        server.behaviour["copy"] = Behaviour(fail="AccessDenied")
    order = order_from(opened(), "pine://posts/dawn/", opened(), "pine://office/second/")
    ending = await carry_out(order, Memory())
    assert ending.error is None and ending.acted == 2
    for name in ("small", "long"):
        headers = server.shelf.buckets["second"][name].headers
        assert {k: headers[k] for k in kept} == kept
        assert (
            "x-amz-meta-pinecart" in headers or not through_us
        )  # what a store copies by itself stays as it is


async def test_parts_of_what_is_set_aside_at_the_source_are_cleared_there(office, tmp_path):
    """The source's store does not copy, so that it goes through us; and its parts are refused."""
    server, opened = office
    (tmp_path / "there").mkdir()
    server.shelf.put("dawn", "long", LARGE, {})
    server.behaviour["copy"] = Behaviour(fail="AccessDenied")
    server.behaviour["part"] = Behaviour(fail="AccessDenied", match="aside")
    server.behaviour["abort"] = Behaviour(fail="AccessDenied")
    order = order_from(
        opened(), "pine://posts/dawn/", posts(tmp_path / "there"), intent="hand-over"
    )
    memory = Memory()
    await carry_out(order, memory)
    assert [store for store, _, _ in await memory.uploads_left()] == ["posts"]
    assert len(server.shelf.uploads) == 1 and server.shelf.body("dawn", "long") == LARGE
    server.behaviour.clear()
    await carry_out(order._replace(run=3), memory)
    assert not server.shelf.uploads and not await memory.uploads_left()
    assert (tmp_path / "there" / "long").read_bytes() == LARGE
