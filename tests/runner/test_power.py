"""A power cut between any two steps of writing, and a disk that fills up: what a restart finds."""

from __future__ import annotations

import contextlib
import os
import subprocess

import pytest

from pinecart.drivers import open_store
from pinecart.drivers.folder.kernel import KERNEL, Kernel
from pinecart.drivers.folder.store import FolderStore
from tests.runner.engine import Memory, done, posts, run


class PowerCut(BaseException):
    """Nothing catches it, as nothing runs after a power cut."""


class Powered(Kernel):
    """left: steps until the power goes; None: it stays."""

    def __init__(self, left=None):
        self.left = left

    def step(self):
        if self.left == 0:
            raise PowerCut
        if self.left is not None:
            self.left -= 1

    def flush(self, fd):
        self.step()
        super().flush(fd)

    def flush_whole(self, fd):
        self.step()
        super().flush_whole(fd)

    def rename_if_absent(self, *names):
        self.step()
        return super().rename_if_absent(*names)

    def replace(self, *names):
        self.step()
        super().replace(*names)

    def set_time(self, fd, ns):
        self.step()
        super().set_time(fd, ns)


class PoweredMemory(Memory):
    """Records are steps too."""

    kernel = Powered()

    async def save(self, batch):
        self.kernel.step()
        await super().save(batch)


@pytest.fixture
def there(tmp_path):
    (tmp_path / "there").mkdir()

    def opened(kernel=KERNEL):
        return FolderStore("office", str(tmp_path / "there"), run="2", kernel=kernel)

    return opened


def visible(root):
    return {
        str(p.relative_to(root)): p.read_bytes()
        for p in root.rglob("*")
        if p.is_file() and not p.name.startswith(".pinecart-") and ".pinecart-aside" not in str(p)
    }


@pytest.mark.parametrize("after", range(14))
async def test_a_power_cut_between_any_two_steps_leaves_whole_files_only(
    folder, there, tmp_path, after
):
    """Steps are counted over a whole run of a mirror that copies, replaces and removes; after each
    the power goes.
    """
    guards = {"intent": "mirror", "guards": {"removals_percent": 100}}
    memory = PoweredMemory()
    await run(memory, posts(folder), there(), 1, **guards)
    (folder / "a.flac").write_bytes(b"changed")
    (folder / "new").write_bytes(b"new" * 1000)
    (folder / "sub/b.csv").unlink()
    old = visible(tmp_path / "there")
    wanted = {f"dawn/{k}": v for k, v in visible(folder).items()}
    memory.kernel = Powered(left=after)
    with contextlib.suppress(PowerCut):
        await run(memory, posts(folder), there(memory.kernel), 2, **guards)
    memory.kernel = Powered()
    for name, body in visible(tmp_path / "there").items():
        assert body in (old.get(name), wanted.get(name)), f"{name} is half a file"
    gone = [n for n in old if n not in visible(tmp_path / "there")]
    assert set(gone) <= {"dawn/sub/b.csv"}
    await run(memory, posts(folder), there(), 2, resume=True, **guards)
    assert visible(tmp_path / "there") == wanted and not list((tmp_path / "there").rglob("*.part"))
    aside = [("office", b".pinecart-aside/2/")]
    assert (await run(memory, posts(folder), there(), 3, ours=aside, **guards)).acted == 0


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
