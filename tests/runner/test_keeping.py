"""What goes with a file besides its bytes, folders of their own, and links: over real folders and
the stand-in.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path

import pytest

from pinecart.drivers import open_store
from tests.runner.engine import Memory, done, posts, run

KEEP = {"keep": ["permissions", "attributes", "tags"]}


def at(path, name, **more):
    return open_store({"kind": "folder", "name": name, "path": str(path), **more})


def tree(root):
    """path → (mode, content or link text), links not followed."""
    found = {}
    for folder, names, files in os.walk(root):
        for name in names + files:
            path = os.path.join(folder, name)
            info = os.lstat(path)
            body = (
                os.readlink(path)
                if stat.S_ISLNK(info.st_mode)
                else ""
                if os.path.isdir(path)
                else Path(path).read_text()
            )
            found[os.path.relpath(path, root)] = (oct(stat.S_IMODE(info.st_mode)), body)
    return found


@pytest.fixture
def kept(tmp_path):
    root = tmp_path / "posts"
    (root / "closed" / "deep").mkdir(parents=True)
    (root / "empty").mkdir()
    (root / "closed" / "deep" / "a.flac").write_text("song")
    (root / "b.csv").write_text("1,2")
    os.chmod(root / "b.csv", 0o640)
    os.chmod(root / "empty", 0o711)
    os.chmod(root / "closed", 0o555)
    for name in ("b.csv", "empty"):
        os.setxattr(root / name, "user.post", b"aldermurr \xff")
    return root


@pytest.mark.parametrize("through", ["bucket", "folder"])
async def test_permissions_and_attributes_of_files_and_folders_come_back(
    kept, office, tmp_path, through
):
    _, opened = office
    (tmp_path / "back").mkdir()
    (tmp_path / "half").mkdir()
    half = opened() if through == "bucket" else at(tmp_path / "half", "office")
    there, back = Memory(), Memory()
    ending = await run(there, posts(kept), half, **KEEP)
    assert ending.error is None and done(there)["copy new"] == 5, done(there)
    half = opened() if through == "bucket" else at(tmp_path / "half", "office")
    legs = {"from": "pine://office/dawn/", "to": "pine://posts/"}
    await run(back, at(tmp_path / "back", "posts"), half, 2, **legs, **KEEP)
    assert tree(tmp_path / "back") == tree(kept)
    assert os.getxattr(tmp_path / "back" / "b.csv", "user.post") == b"aldermurr \xff"
    assert os.getxattr(tmp_path / "back" / "empty", "user.post") == b"aldermurr \xff"
    half = opened() if through == "bucket" else at(tmp_path / "half", "office")
    assert (await run(there, posts(kept), half, 3, **KEEP)).acted == 0


@pytest.mark.parametrize("through", ["bucket", "folder"])
async def test_a_change_of_permissions_alone_is_carried_and_a_touch_is_not(
    kept, office, tmp_path, through
):
    _, opened = office
    (tmp_path / "half").mkdir()
    half = opened if through == "bucket" else lambda: at(tmp_path / "half", "office")
    memory = Memory()
    await run(memory, posts(kept), half(), **KEEP)
    os.chmod(kept / "b.csv", 0o600)
    os.rename(kept / "closed/deep/a.flac", kept / "closed/deep/a2")  # its ctime alone changes
    os.rename(kept / "closed/deep/a2", kept / "closed/deep/a.flac")
    assert (await run(memory, posts(kept), half(), 2, **KEEP)).acted == 1
    assert (
        memory.records[b"b.csv"].decision == "replace"
        and memory.records[b"b.csv"].reason == "changed"
    )
    (tmp_path / "back").mkdir()
    legs = {"from": "pine://office/dawn/", "to": "pine://posts/"}
    await run(Memory(), at(tmp_path / "back", "posts"), half(), 3, **legs, **KEEP)
    assert tree(tmp_path / "back")["b.csv"] == ("0o600", "1,2")
    assert (await run(memory, posts(kept), half(), 4, **KEEP)).acted == 0


async def test_without_the_choice_nothing_of_it_is_kept(kept, office):
    server, opened = office
    await run(Memory(), posts(kept), opened())
    assert sorted(server.shelf.buckets["dawn"]) == ["b.csv", "closed/deep/a.flac"]
    assert not [
        k
        for t in server.shelf.buckets["dawn"].values()
        for k in t.headers
        if "mode" in k or "attributes" in k
    ]


async def test_empty_folders_go_too_or_alone_and_a_mirror_takes_them_away(kept, office, tmp_path):
    server, opened = office
    memory = Memory()
    await run(memory, posts(kept), opened(), folders="only")
    assert sorted(server.shelf.buckets["dawn"]) == ["closed/", "closed/deep/", "empty/"]
    (tmp_path / "there").mkdir()
    rules = {"folders": "empty-too", "intent": "mirror", "guards": {"removals_percent": 100}}
    memory = Memory()
    await run(memory, posts(kept), at(tmp_path / "there", "office"), **rules)
    assert (tmp_path / "there/dawn/empty").is_dir() and memory.records[b"empty/"].decision == "copy"
    (kept / "empty").rmdir()
    await run(memory, posts(kept), at(tmp_path / "there", "office"), 2, **rules)
    assert not (tmp_path / "there/dawn/empty").exists() and (tmp_path / "there/dawn/b.csv").exists()
    assert (await run(memory, posts(kept), at(tmp_path / "there", "office"), 3, **rules)).acted == 0


async def test_tags_and_storage_class_go_from_bucket_to_bucket(office):
    server, opened = office
    server.shelf.make("copy")
    server.shelf.put(
        "dawn", "a", b"1", {"x-amz-tagging": "post=Aldermurr%20%26%20more&season=2026"}
    )
    server.shelf.put("dawn", "large", b"x" * (9 << 20), {"x-amz-tagging": "post=Brockwen"})
    legs = {"from": "pine://posts/dawn/", "to": "pine://office/copy/"}
    await run(Memory(), opened(), opened(), **legs, keep=["tags"], storage_class="STANDARD_IA")
    told = {
        k: (t.headers["x-amz-tagging"], t.headers["x-amz-storage-class"])
        for k, t in server.shelf.buckets["copy"].items()
    }
    assert told == {
        "a": ("post=Aldermurr%20%26%20more&season=2026", "STANDARD_IA"),
        "large": ("post=Brockwen", "STANDARD_IA"),
    }


@pytest.fixture
def linked(tmp_path):
    root = tmp_path / "posts"
    (root / "real").mkdir(parents=True)
    (root / "real" / "a").write_text("song")
    (tmp_path / "outside").mkdir()
    (tmp_path / "outside" / "secret").write_text("secret")
    os.symlink("real/a", root / "file")
    os.symlink("real", root / "folder")
    os.symlink("..", root / "real" / "up")
    os.symlink("../outside/secret", root / "out")
    os.symlink(str(tmp_path / "outside"), root / "outfolder")
    os.symlink("nowhere", root / "broken")
    return root


@pytest.mark.parametrize("way", ["refuse", "skip", "follow", "keep"])
async def test_links_are_refused_skipped_followed_inside_the_root_or_kept(
    linked, office, tmp_path, way
):
    server, opened = office
    memory = Memory()
    ending = await run(memory, at(linked, "posts", links=way), opened())
    assert ending.error is None, ending.error
    copied = {k: server.shelf.body("dawn", k) for k in server.shelf.buckets["dawn"]}
    refused = {k.decode() for k, r in memory.records.items() if r.error == "not-a-file"}
    assert b"secret" not in copied.values()
    if way == "refuse":
        assert set(copied) == {"real/a"} and len(refused) == 6
    elif way == "skip":
        assert set(copied) == {"real/a"} and not refused
    elif way == "follow":
        assert set(copied) == {"real/a", "file", "folder/a"} and copied["file"] == b"song"
        assert {"out", "broken", "real/up/"} <= refused and len(memory.records) == 8, (
            memory.records.keys()
        )
    else:
        assert copied["out"] == b"../outside/secret" and len(copied) == 7 and not refused
        (tmp_path / "back").mkdir()
        legs = {"from": "pine://office/dawn/", "to": "pine://posts/"}
        await run(Memory(), at(tmp_path / "back", "posts", links="keep"), opened(), 2, **legs)
        leads_out = (
            "out",
            "outfolder",
        )  # never made: whoever followed one would be out of the store
        assert tree(tmp_path / "back") == {
            k: v for k, v in tree(linked).items() if k not in leads_out
        }
        assert (await run(memory, at(linked, "posts", links=way), opened(), 3)).acted == 0
        (tmp_path / "plain").mkdir()
        await run(Memory(), at(tmp_path / "plain", "posts"), opened(), 4, **legs)
        assert (tmp_path / "plain" / "out").read_text() == "../outside/secret" and not (
            tmp_path / "plain/out"
        ).is_symlink()
