"""A power cut between any two steps of writing, and a disk that fills up: what a restart finds."""

from __future__ import annotations

import contextlib
import os
import subprocess

import pytest

from pinecart.drivers import open_store
from pinecart.drivers.folder import store as folder_driver
from pinecart.drivers.folder import writing as folder_writing
from tests.runner.engine import Memory, done, posts, run


class PowerCut(BaseException):
    """Nothing catches it, as nothing runs after a power cut."""


STEPS = ["fsync", "rename", "replace", "utime", "record", "unlink"]


@pytest.fixture
def there(tmp_path):
    (tmp_path / "there").mkdir()
    return lambda: open_store(
        {"kind": "folder", "name": "office", "path": str(tmp_path / "there"), "run": 2}
    )


def visible(root):
    return {
        str(p.relative_to(root)): p.read_bytes()
        for p in root.rglob("*")
        if p.is_file() and not p.name.startswith(".pinecart-") and ".pinecart-aside" not in str(p)
    }


@pytest.mark.parametrize("after", range(14))
async def test_a_power_cut_between_any_two_steps_leaves_whole_files_only(
    folder, there, tmp_path, monkeypatch, after
):
    """Steps are counted over a whole run of a mirror that copies, replaces and removes; after each
    the power goes.
    """
    guards = {"intent": "mirror", "guards": {"removals_percent": 100}}
    memory = Memory()
    await run(memory, posts(folder), there(), 1, **guards)
    (folder / "a.flac").write_bytes(b"changed")
    (folder / "new").write_bytes(b"new" * 1000)
    (folder / "sub/b.csv").unlink()
    old, wanted, steps = (
        visible(tmp_path / "there"),
        {f"dawn/{k}": v for k, v in visible(folder).items()},
        0,
    )

    def stepping(call):
        def one(*args, **kwargs):
            nonlocal steps
            if steps == after:
                raise PowerCut
            steps += 1
            return call(*args, **kwargs)

        return one

    with monkeypatch.context() as patched:
        for name in ("fsync", "replace", "utime"):
            patched.setattr(folder_driver.os, name, stepping(getattr(os, name)))
        patched.setattr(
            folder_writing, "rename_if_absent", stepping(folder_writing.rename_if_absent)
        )
        memory.save, save = stepping(memory.save), memory.save
        with contextlib.suppress(PowerCut):
            await run(memory, posts(folder), there(), 2, **guards)
    memory.save = save
    for name, body in visible(tmp_path / "there").items():
        assert body in (old.get(name), wanted.get(name)), f"{name} is half a file"
    gone = [n for n in old if n not in visible(tmp_path / "there")]
    assert set(gone) <= {"dawn/sub/b.csv"}
    await run(memory, posts(folder), there(), 2, resume=True, **guards)
    assert visible(tmp_path / "there") == wanted and not list((tmp_path / "there").rglob("*.part"))
    aside = [("office", b".pinecart-aside/2/")]
    assert (await run(memory, posts(folder), there(), 3, aside=aside, **guards)).acted == 0


@pytest.fixture
def small_disk(tmp_path):
    """A file system of two megabytes."""
    place = tmp_path / "disk"
    place.mkdir()
    made = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=2m", "tmpfs", str(place)],
        capture_output=True,
        check=False,
    )
    if made.returncode:
        pytest.skip("may not mount a file system here")
    yield place
    subprocess.run(["umount", str(place)], check=True)


async def test_a_disk_that_fills_up_is_said_and_leaves_no_half_file(tmp_path, small_disk):
    source = tmp_path / "posts"
    source.mkdir()
    for n in range(12):
        (source / f"{n:02}.flac").write_bytes(bytes([n]) * 300_000)
    memory = Memory()
    target = open_store({"kind": "folder", "name": "office", "path": str(small_disk)})
    ending = await run(memory, posts(source), target)
    found = done(memory)
    assert ending.error is None and found["copy new (store.full)"] == 12 - found["copy new"] > 0
    files = visible(small_disk)
    assert len(files) == found["copy new"] >= 4
    assert all(body == (source / os.path.basename(n)).read_bytes() for n, body in files.items())
    assert not list(small_disk.rglob("*.part"))
