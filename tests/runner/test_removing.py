"""Mirrors, moves, removals, what holds them, and taking them back: over a real folder and the
stand-in, ledger in memory.
"""

from __future__ import annotations

import asyncio
import os

import pytest

from pinecart.core.definition_reading import read_definition
from pinecart.core.errors import Invalid
from pinecart.drivers import open_store
from pinecart.drivers.folder.kernel import Kernel
from pinecart.drivers.folder.store import FolderStore
from pinecart.runner.leg_context import RemovalPace
from pinecart.runner.run import Order, carry_out
from pinecart.runner.scratch import Scratch
from pinecart.standins.bucket_behaviour import Behaviour
from tests.runner.engine import Memory, done, posts, run

MIRROR = {"intent": "mirror", "guards": {"removals_percent": 100}}


def keys(server, bucket="dawn"):
    return sorted(k for k in server.shelf.buckets[bucket])


def files(root):
    return sorted(str(p.relative_to(root)) for p in root.rglob("*") if p.is_file())


@pytest.fixture
def many(tmp_path):
    root = tmp_path / "posts"
    for i in range(30):
        (root / f"d{i % 3}").mkdir(parents=True, exist_ok=True)
        (root / f"d{i % 3}" / f"{i:02}.flac").write_bytes(b"%d" % i * 5)
        os.utime(root / f"d{i % 3}" / f"{i:02}.flac", ns=(10**18, 10**18))
    return root


async def test_a_mirror_removes_what_is_gone_and_sets_it_aside(many, office):
    server, opened = office
    for sibling in ("in", "in-old/x", "inner"):
        server.shelf.put("dawn", sibling, b"not ours", {})
    memory, mirror = Memory(), MIRROR | {"to": "pine://office/dawn/in/"}
    await run(memory, posts(many), opened(), **mirror)
    (many / "d0" / "03.flac").unlink()
    ending = await run(memory, posts(many), opened(), 2, **mirror)
    assert (
        done(memory) == {"remove gone": 1}
        and not ending.held
        and ending.far_side["differences"] == 0
    )
    assert ".pinecart-aside/2/0/in/d0/03.flac" in keys(server) and "in/d0/03.flac" not in keys(
        server
    )
    assert b"d0/03.flac" not in memory.rows and {"in", "in-old/x", "inner"} <= set(keys(server))
    assert (await run(memory, posts(many), opened(), 3, **mirror)).acted == 0


async def test_what_is_set_aside_is_no_file_of_theirs(many, office):
    server, opened = office
    memory = Memory()
    await run(memory, posts(many), opened(), **MIRROR)
    (many / "d0" / "03.flac").unlink()
    await run(memory, posts(many), opened(), 2, **MIRROR)
    aside = [("office", b"dawn/.pinecart-aside/2/")]
    (many / "d0" / "06.flac").unlink()
    ending = await run(memory, posts(many), opened(), 3, ours=aside, **MIRROR)
    assert ending.far_side["objects"] == 28  # nor what this very run has just set aside
    aside.append(("office", b"dawn/.pinecart-aside/3/"))
    server.shelf.put("dawn", ".pinecart-aside/77/x", b"no run of ours made this", {})
    ending = await run(memory, posts(many), opened(), 4, ours=aside, **MIRROR)
    assert [(h.guard, h.objects) for h in ending.held] == [("not-ours", 1)]


async def test_whoever_names_what_is_set_aside_as_a_source_gets_it(many, office):
    server, opened = office
    aside = many / ".pinecart-aside" / "2"
    aside.mkdir(parents=True)
    (aside / "-a").write_bytes(b"1")
    legs = [{"from": "pine://posts/.pinecart-aside/2/", "to": "pine://office/dawn/again/"}]
    ours = [("posts", b".pinecart-aside/2/")]
    ending = await run(Memory(), posts(many), opened(), legs=legs, ours=ours)
    assert ending.acted == 1 and "again/-a" in keys(server)


async def test_a_job_names_where_things_are_set_aside(many, office):
    server, opened = office
    memory, mirror = Memory(), MIRROR | {"to": "pine://office/dawn/in/", "aside_in": "kept/removed"}
    await run(memory, posts(many), opened(), **mirror)
    (many / "d0" / "03.flac").unlink()
    await run(memory, posts(many), opened(), 2, **mirror)
    assert "kept/removed/.pinecart-aside/2/0/in/d0/03.flac" in keys(server)
    elsewhere = {
        "from": "pine://posts/d0/",
        "to": "pine://office/dawn/kept/",
    }  # another exact copy, around that folder
    aside = [("office", b"dawn/kept/removed/.pinecart-aside/2/")]
    ending = await run(Memory(), posts(many), opened(), 3, ours=aside, **MIRROR | elsewhere)
    assert not ending.held and "kept/removed/.pinecart-aside/2/0/in/d0/03.flac" in keys(server)
    ending = await run(Memory(), posts(many), opened(), 4, **MIRROR | elsewhere)
    assert [h.guard for h in ending.held] == ["not-ours"]  # nobody said that it is ours
    memory.undoing()
    await run(memory, posts(many), opened(), 5, kind="undo", **mirror)
    assert server.shelf.body("dawn", "in/d0/03.flac") == b"3" * 5
    for inside in ("in", "in/kept", "../kept", "a//b", "kept/.pinecart-aside"):
        with pytest.raises(Invalid) as caught:
            read_definition(
                {
                    "job": "dawn",
                    "legs": [{"from": "pine://posts/", "to": "pine://office/dawn/in/"}],
                    "aside_in": inside,
                }
            )
        assert caught.value.problems[0]["field"] == "aside_in"


async def test_undo_brings_back_what_a_mirror_removed_and_replaced(many, office):
    server, opened = office
    memory = Memory()
    await run(memory, posts(many), opened(), **MIRROR)
    before = {k: server.shelf.body("dawn", k) for k in keys(server)}
    (many / "d0" / "03.flac").unlink()
    (many / "d0" / "00.flac").write_bytes(b"changed")
    (many / "d0" / "new.flac").write_bytes(b"new")
    await run(memory, posts(many), opened(), 2, **MIRROR)
    assert done(memory) == {"remove gone": 1, "replace changed": 1, "copy new": 1}
    server.shelf.put("dawn", "d0/new.flac", b"somebody's", {})
    memory.undoing()
    await run(memory, posts(many), opened(), 3, kind="preview", undo=True, **MIRROR)
    assert {k: done(memory)[k] for k in done(memory)} == {
        "copy undone": 1,
        "replace undone": 1,
        "refuse undone (not-undone)": 1,
    }
    assert server.shelf.body("dawn", "d0/00.flac") == b"changed"
    memory.records = {}
    await run(memory, posts(many), opened(), 4, kind="undo", **MIRROR)
    after = {k: server.shelf.body("dawn", k) for k in keys(server) if not k.startswith(".pinecart")}
    assert after == before | {"d0/new.flac": b"somebody's"}
    assert [k for k in keys(server) if k.startswith(".pinecart")] == [
        ".pinecart-aside/4/0/d0/00.flac"
    ]


@pytest.mark.parametrize("old", ["", "conditions-ignored", "conditions-refused"])
async def test_a_removal_is_guarded_by_the_store_where_it_holds_conditions(many, office, old):
    server, opened = office
    memory = Memory()
    await run(memory, posts(many), opened(), **MIRROR)
    server.old = frozenset({old} - {""})
    for n in (3, 6):
        (many / "d0" / f"{n:02}.flac").unlink()
    await run(memory, posts(many), opened(), 2, **MIRROR)
    assert done(memory) == {"remove gone": 2} and {r.guarded for r in memory.records.values()} == {
        not old
    }
    assert server.counts["delete"] >= 3 and not [k for k in keys(server) if "probe" in k]


@pytest.mark.parametrize("kind, versioned", [("copy", False), ("head", True)])
async def test_what_somebody_else_has_removed_is_no_problem(many, office, kind, versioned):
    server, opened = office
    if versioned:
        server.shelf.versioned.add("dawn")
    memory = Memory()
    await run(memory, posts(many), opened(), **MIRROR)
    for n in (3, 6):
        (many / "d0" / f"{n:02}.flac").unlink()
    server.behaviour[kind] = Behaviour(delay_s=0.2, match="d0/03.flac")
    before = server.counts[kind]
    running = asyncio.create_task(run(memory, posts(many), opened(), 2, **MIRROR))
    while server.counts[kind] == before:
        await asyncio.sleep(0.01)
    server.shelf.delete("dawn", "d0/03.flac")
    ending = await running
    assert done(memory) == {"remove gone": 1} and ending.far_side["differences"] == 0
    assert ("leave", "row-dropped", 1, 5) in ending.counted
    assert not {b"d0/03.flac", b"d0/06.flac"} & memory.rows.keys()
    assert (await run(memory, posts(many), opened(), 3, **MIRROR)).acted == 0


async def test_a_bucket_that_keeps_versions_keeps_what_is_taken_away_by_itself(many, office):
    server, opened = office
    server.shelf.versioned.add("dawn")
    memory = Memory()
    await run(memory, posts(many), opened(), **MIRROR)
    before = {k: server.shelf.body("dawn", k) for k in keys(server)}
    (many / "d0" / "03.flac").unlink()
    (many / "d0" / "00.flac").write_bytes(b"changed")
    copies = server.counts["copy"]
    await run(memory, posts(many), opened(), 2, **MIRROR)
    assert (
        done(memory) == {"remove gone": 1, "replace changed": 1} and server.counts["copy"] == copies
    )
    assert not [k for k in keys(server) if k.startswith(".pinecart")] and "d0/03.flac" not in keys(
        server
    )
    assert {(a.at, bool(a.version), bool(a.kept)) for a in memory.asides.values()} == {
        (b"dawn/d0/03.flac", True, True),
        (b"dawn/d0/00.flac", True, True),
    }
    memory.undoing()
    for number in (3, 4):  # the second time there is nothing left to undo
        past = dict(memory.past)
        await run(memory, posts(many), opened(), number, kind="undo", **MIRROR)
        assert {k: server.shelf.body("dawn", k) for k in keys(server)} == before, done(memory)
        memory.past = past
    assert not memory.records


async def test_a_move_out_of_a_bucket_that_keeps_versions_can_be_undone(many, office, tmp_path):
    server, opened = office
    server.shelf.versioned.add("dawn")
    (tmp_path / "there").mkdir()
    for n in range(3):
        server.shelf.put("dawn", f"{n}.flac", b"%d" % n * 9, {"content-type": "audio/flac"})
    memory, there = (
        Memory(),
        lambda: open_store({"kind": "folder", "name": "office", "path": str(tmp_path / "there")}),
    )
    move = {
        "intent": "hand-over",
        "set_aside": 14,
        "from": "pine://posts/dawn/",
        "to": "pine://office/",
    }
    await run(memory, opened(), there(), **move)
    assert not keys(server) and len(files(tmp_path / "there")) == 3
    memory.undoing()
    await run(memory, opened(), there(), 2, kind="undo", **move)
    assert [server.shelf.body("dawn", k) for k in keys(server)] == [b"%d" % n * 9 for n in range(3)]
    assert {t.headers["content-type"] for t in server.shelf.buckets["dawn"].values()} == {
        "audio/flac"
    }


async def test_a_folder_mirror_renames_aside_and_clears_empty_folders(many, tmp_path):
    there = tmp_path / "there"
    there.mkdir()
    far = lambda: open_store({"kind": "folder", "name": "office", "path": str(there)})  # noqa: E731
    memory = Memory()
    await run(memory, posts(many), far(), **MIRROR)
    inode = (there / "dawn/d2/02.flac").stat().st_ino
    for file in (many / "d2").iterdir():
        file.unlink()
    (many / "d2").rmdir()
    await run(memory, posts(many), far(), 2, **MIRROR)
    assert (
        not (there / "dawn/d2").exists()
        and (there / ".pinecart-aside/2/0/dawn/d2/02.flac").stat().st_ino == inode
    )
    memory.undoing()
    await run(memory, posts(many), far(), 3, kind="undo", **MIRROR)
    assert len(files(there / "dawn")) == 30 and files(there) == [
        f"dawn/{f}" for f in files(there / "dawn")
    ]
    assert (there / "dawn/d2/02.flac").stat().st_ino == inode


@pytest.mark.parametrize(
    "trouble", ["empty", "unreadable", "cut", "foreign", "first", "many", "back"]
)
async def test_what_holds_removals_or_forbids_them(many, office, trouble):
    server, opened = office
    memory = Memory()
    rules = dict(MIRROR) if trouble in ("foreign", "first", "back") else {"intent": "mirror"}
    memory.is_fresh = True
    await run(memory, posts(many), opened(), **rules)
    assert memory.is_fresh is False and len(memory.rows) == 30
    source = posts(many)
    match trouble:
        case "empty":
            for name in files(many):
                (many / name).unlink()
        case "unreadable":
            (many / "d0" / "03.flac").unlink()

            class Closed(Kernel):
                def open_folder(self, name, parent):
                    if name == b"d1":
                        raise PermissionError(13, "no")
                    return super().open_folder(name, parent)

            source = FolderStore("posts", str(many), kernel=Closed())
        case "cut":
            server.old = frozenset({"listing-cut"})
            source, trouble = opened(), "cut"
        case "foreign":
            server.shelf.put("dawn", "dawn/theirs", b"x", {})
            server.shelf.put("dawn", "theirs", b"x", {})
        case "first":
            memory.is_fresh = True
            (many / "d0" / "03.flac").unlink()
        case "many" | "back":
            for i in (0, 3, 6, 9):
                (many / "d0" / f"{i:02}.flac").unlink()
    if trouble == "back":
        plain_stat = source.is_absent

        async def came_back(key):
            (many / "d0" / "03.flac").write_bytes(b"back")
            return await plain_stat(key)

        source.is_absent = came_back
    before = keys(server)
    ending = await run(memory, source, opened(), 2, **rules)
    if trouble == "back":
        assert done(memory)["remove gone (source-back)"] == 1 and done(memory)["remove gone"] == 3
        return
    assert keys(server) == before
    if trouble == "unreadable":
        assert done(memory)["remove gone (source-unreadable)"] == 11
    elif trouble == "cut":
        assert ending.error is not None
    else:
        guard = {
            "empty": "source-empty",
            "foreign": "not-ours",
            "first": "first-run",
            "many": "removals-percent",
        }
        assert [h.guard for h in ending.held] == [guard[trouble]]


async def test_a_release_is_of_one_list_only(many, office):
    server, opened = office
    memory = Memory()
    await run(memory, posts(many), opened(), intent="mirror")
    for i in (0, 3, 6, 9):
        (many / "d0" / f"{i:02}.flac").unlink()
    (many / "d1" / "new").write_bytes(b"new")
    held = (await run(memory, posts(many), opened(), 2, intent="mirror")).held[0]
    assert done(memory) == {"copy new": 1, "remove gone": 4} and (
        held.objects,
        len(keys(server)),
    ) == (4, 31)
    (many / "d1" / "01.flac").unlink()
    ending = await run(memory, posts(many), opened(), 2, intent="mirror", released=[held.digest])
    assert ending.held[0].objects == 5 and len(keys(server)) == 31
    again = await run(
        memory, posts(many), opened(), 2, intent="mirror", released=[ending.held[0].digest]
    )
    assert not again.held and len([k for k in keys(server) if not k.startswith(".pinecart")]) == 26


async def test_a_source_encrypted_in_place_is_held_before_the_first_replacement(many, office):
    server, opened = office
    memory = Memory()
    await run(memory, posts(many), opened())
    for name in files(many):
        (many / name).write_bytes(b"\x00scrambled")
    puts = server.counts["put"]
    ending = await run(memory, posts(many), opened(), 2)
    assert [h.guard for h in ending.held] == ["replacements-percent"] and server.counts[
        "put"
    ] == puts


async def test_a_move_clears_what_is_proven_and_sets_it_aside(many, office):
    server, opened = office
    memory = Memory()
    (many / "d0" / "03.flac").write_bytes(b"young")
    ending = await run(memory, posts(many), opened(), settle_s=60.0, intent="hand-over")
    assert (
        "leave",
        "too-young",
        30,
        ending.counted[0][3],
    ) in ending.counted  # all were made a moment ago
    await run(memory, posts(many), opened(), 2, intent="hand-over")
    assert done(memory) == {"clear proven": 30} and all(r.cleared for r in memory.rows.values())
    assert (
        all(f.startswith(".pinecart-aside/2/0/d") for f in files(many)) and len(keys(server)) == 30
    )
    aside = [("posts", b".pinecart-aside/2/")]
    ending = await run(memory, posts(many), opened(), 3, intent="hand-over", ours=aside)
    assert ending.acted == 0 and not ending.held and len(keys(server)) == 30
    (many / "d0" / "00.flac").parent.mkdir(exist_ok=True)
    (many / "d0" / "00.flac").write_bytes(b"another recording of that name")
    await run(memory, posts(many), opened(), 4, intent="hand-over", ours=aside)
    assert done(memory) == {"refuse exists (exists)": 1}


async def test_a_move_in_one_run_and_back_again(many, office):
    server, opened = office
    memory = Memory()
    names = files(many)
    await run(memory, posts(many), opened(), intent="hand-over")
    assert {r.message for r in memory.records.values()} == {"cleared"} and len(keys(server)) == 30
    memory.undoing()
    await run(memory, posts(many), opened(), 2, kind="undo", intent="hand-over")
    assert files(many) == names and [k for k in keys(server) if not k.startswith(".pinecart")] == []


async def test_a_copy_that_is_not_what_was_sent_is_never_reason_to_clear(many, office):
    server, opened = office
    server.old = frozenset({"checksums-ignored"})
    memory = Memory()
    names = files(many)
    real = server.shelf.put

    def corrupt(bucket, key, body, kept, *more):
        return real(bucket, key, b"!" + body[1:] if key == "d0/03.flac" else body, kept, *more)

    server.shelf.put = corrupt
    await run(memory, posts(many), opened(), intent="hand-over")
    assert memory.records[b"d0/03.flac"].error == "store.corrupt" and "d0/03.flac" in files(many)
    assert [f for f in files(many) if not f.startswith(".pinecart")] == ["d0/03.flac"] and len(
        names
    ) == 30


async def test_what_cannot_be_set_aside_is_not_removed(many, office):
    server, opened = office
    memory = Memory()
    await run(memory, posts(many), opened(), **MIRROR)
    (many / "d0" / "03.flac").unlink()
    for kind in ("copy", "put"):
        server.behaviour[kind] = Behaviour(fail="AccessDenied", match="aside")
    await run(memory, posts(many), opened(), 2, **MIRROR)
    assert done(memory) == {"remove gone (store.refused)": 1} and "d0/03.flac" in keys(server)


async def test_a_file_in_the_way_of_a_folder_goes_first(many, tmp_path):
    there = tmp_path / "there"
    there.mkdir()
    far = lambda: open_store({"kind": "folder", "name": "office", "path": str(there)})  # noqa: E731
    (many / "name").write_bytes(b"a file")
    memory = Memory()
    await run(memory, posts(many), far(), **MIRROR)
    (many / "name").unlink()
    (many / "name").mkdir()
    (many / "name" / "inside").write_bytes(b"now a folder")
    await run(memory, posts(many), far(), 2, **MIRROR)
    assert (there / "dawn/name/inside").read_bytes() == b"now a folder"
    assert done(memory) == {"remove gone": 1, "copy new": 1}


async def test_a_removal_waits_for_its_yes_and_can_be_brought_back(many, office):
    server, opened = office
    memory = Memory()
    await run(memory, posts(many), opened())
    legs = {"from": "pine://office/dawn/", "to": "pine://office/dawn/"}
    store, rules = opened(), {"intent": "remove", "take": ["0*.flac"]}
    held = (await remove(memory, store, legs, 2, **rules)).held[0]
    assert (held.guard, held.objects, len(keys(server))) == ("asked", 10, 30)
    await remove(memory, opened(), legs, 2, released=[held.digest], **rules)
    assert len([k for k in keys(server) if not k.startswith(".pinecart")]) == 20
    memory.undoing()
    await remove(memory, opened(), legs, 3, kind="undo", **rules)
    assert len(keys(server)) == 30 and not [k for k in keys(server) if k.startswith(".pinecart")]


async def test_what_was_set_aside_is_cleared_away_when_its_days_are_over(many, office):
    server, opened = office
    memory = Memory()
    await run(memory, posts(many), opened(), **MIRROR)
    for name in ("03", "06"):
        (many / "d0" / f"{name}.flac").unlink()
    await run(memory, posts(many), opened(), 2, **MIRROR)
    server.shelf.put("dawn", ".pinecart-aside/2/0/d0/06.flac", b"somebody put this here", {})
    memory.undoing()
    await run(memory, posts(many), opened(), 3, kind="expiry", **MIRROR)
    assert [k for k in keys(server) if k.startswith(".pinecart")] == [
        ".pinecart-aside/2/0/d0/06.flac"
    ]
    assert sorted(done(memory)) == ["remove expired", "remove expired (store.not-as-planned)"]


async def remove(memory, store, leg, number, *, released=(), kind="transfer", **rules):
    memory.records = {}
    leg |= {"take": rules["take"]}
    definition = read_definition({"job": "remove", "intent": "remove", "legs": [leg]})
    order = Order(
        number, kind, definition, {"office": store}, Scratch("/tmp"), released=frozenset(released)
    )
    return await carry_out(order, memory)


async def test_a_plan_that_has_grown_old_is_made_anew_before_more_is_removed(many, office):
    server, opened = office
    memory = Memory()
    await run(memory, posts(many), opened(), **MIRROR)
    for i in range(0, 30, 3):
        (many / "d0" / f"{i:02}.flac").unlink()
    server.behaviour["delete"] = Behaviour(delay_s=0.05)
    pace = RemovalPace(at_once=4, plan_good_s=0.02)
    ending = await run(memory, posts(many), opened(), 2, pace=pace, **MIRROR)
    assert (
        ending.error is None
        and done(memory) == {"remove gone": 10}
        and ending.far_side["differences"] == 0
    )
    assert [action for action, _ in memory.lines].count("planned-anew") >= 2
    pace = pace._replace(plan_good_s=-1)
    (many / "d1" / "01.flac").unlink()
    aside = [("office", b"dawn/.pinecart-aside/2/")]
    ending = await run(memory, posts(many), opened(), 3, ours=aside, pace=pace, **MIRROR)
    assert ending.error.code == "plan.always-old" and "d1/01.flac" in keys(server)
