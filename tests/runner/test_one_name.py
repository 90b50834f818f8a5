"""Places that take several spellings of a name for one: file systems that fold case or normalise,
as stand-ins and real ones.
"""

from __future__ import annotations

import os
import subprocess
import unicodedata

import pytest
from hypothesis import given
from hypothesis import strategies as some

from pinecart.core.entries import RACY_NS
from pinecart.core.folding import EXACT, Folding
from pinecart.drivers import open_store
from pinecart.drivers.memory import MemoryStore
from pinecart.runner.name_folding import beside
from pinecart.runner.scratch import Scratch
from pinecart.runner.side import Side
from tests.runner.engine import Memory, done, posts, run

ACUTE = "é.flac"
RULES = {
    "case": (Folding(case=True), "Dawn.flac", "dAWN.FLAC"),
    "forms": (
        Folding(forms=True),
        unicodedata.normalize("NFC", ACUTE),
        unicodedata.normalize("NFD", ACUTE),
    ),
    "full": (Folding(case=True, full=True), "Straße/1", "STRASSE/1"),
    "all": (
        Folding(True, True, True),
        unicodedata.normalize("NFC", "É"),
        unicodedata.normalize("NFD", "é"),
    ),
}
every_rule = pytest.mark.parametrize("rule", RULES)


class OneName(dict):
    """Keys that find what is there under any of its spellings; the first one stays."""

    def __init__(self, folding):
        super().__init__()
        self._folding, self._spelt = folding, {}

    def _there(self, key):
        return self._spelt.get(self._folding.fold(key), key)

    def __setitem__(self, key, value):
        super().__setitem__(self._spelt.setdefault(self._folding.fold(key), key), value)

    def __getitem__(self, key):
        return super().__getitem__(self._there(key))

    def __delitem__(self, key):
        super().__delitem__(self._spelt.pop(self._folding.fold(key)))

    def __contains__(self, key):
        return super().__contains__(self._there(key))

    def get(self, key, default=None):
        return super().get(self._there(key), default)


class FoldingStore(MemoryStore):
    def __init__(self, name, folding):
        super().__init__(name, OneName(folding))
        self._folding = folding

    async def abilities(self, prefix):
        return (await super().abilities(prefix))._replace(folding=self._folding, has_folders=True)


def bodies(store):
    return {k.decode(): h.body for k, h in store.objects.items() if b".pinecart-aside/" not in k}


@given(
    some.binary(max_size=12) | some.text(max_size=12).map(lambda t: t.encode("utf-8", "replace"))
)
def test_folding_is_the_same_twice_and_for_each_spelling(key):
    for rule in (EXACT, *(r[0] for r in RULES.values())):
        folded = rule.fold(key)
        assert rule.fold(folded) == folded
        assert isinstance(folded, bytes) and (rule != EXACT or folded == key)
    if key.isascii():
        assert RULES["case"][0].fold(key) == RULES["case"][0].fold(key.swapcase())


@every_rule
async def test_two_names_of_one_fold_are_refused_and_all_else_arrives(rule):
    folding, one, other = RULES[rule]
    assert folding.fold(one.encode()) == folding.fold(other.encode()) and one != other
    source, target, memory = MemoryStore("posts", {}), FoldingStore("office", folding), Memory()
    for name in (one, other, "besides"):
        source.set(name.encode(), name.encode())
    target.set(b"dawn/" + one.encode(), b"was here before")
    await run(memory, source, target, intent="mirror")
    assert done(memory) == {"refuse name-clash (name-clash)": 2, "copy new": 1}
    assert bodies(target) == {f"dawn/{one}": b"was here before", "dawn/besides": b"besides"}


@every_rule
async def test_two_places_side_by_side_are_merged_by_what_is_one_name(rule, tmp_path):
    folding, one, other = RULES[rule]
    here, there = MemoryStore("posts", {}), FoldingStore("office", folding)
    for name in (one, f"two/{one}", f"two/{other}", "alone"):
        here.set(name.encode(), b"here")
    for name in (other, f"two/{one}"):
        there.set(name.encode(), b"there")

    async def told(after=b""):
        return [
            b
            async for some in beside(
                Side(here, b""), Side(there, b""), Scratch(str(tmp_path)), after
            )
            for b in some
        ]

    whole = await told()
    assert {b.key.decode(): (bool(b.here), bool(b.there), b.clash) for b in whole} == {
        other: (True, True, False),
        "alone": (True, False, False),
        f"two/{one}": (True, True, True),
        f"two/{other}": (True, False, True),
    }
    for n, b in enumerate(whole):
        assert await told(b.key) == whole[n + 1 :]


@every_rule
@pytest.mark.parametrize("folds", ["source", "target"])
async def test_a_name_spelt_otherwise_is_the_same_file_and_keeps_the_spelling_there(rule, folds):
    folding, one, other = RULES[rule]
    source = FoldingStore("posts", folding) if folds == "source" else MemoryStore("posts", {})
    target = FoldingStore("office", folding) if folds == "target" else MemoryStore("office", {})
    memory = Memory()
    source.set(one.encode(), b"song")
    await run(memory, source, target, intent="mirror")
    assert bodies(target) == {f"dawn/{one}": b"song"}
    del source.objects[one.encode()]
    source.set(other.encode(), b"song")
    assert (await run(memory, source, target, 2, intent="mirror")).acted == 0
    source.set(other.encode(), b"another song")
    await run(memory, source, target, 3, intent="mirror", **{"set-aside": 0})
    assert done(memory) == {"replace changed": 1}
    assert bodies(target) == {f"dawn/{one}": b"another song"}
    assert list(memory.rows) == [one.encode()]
    del source.objects[other.encode()]
    source.set(b"besides", b"")
    ending = await run(
        memory, source, target, 4, intent="mirror", guards={"removals": 9, "removals-percent": 100}
    )
    assert not ending.held and list(bodies(target)) == ["dawn/besides"]
    assert done(memory) == {"remove gone": 1, "copy new": 1}


@every_rule
async def test_two_names_in_a_bucket_are_never_taken_for_what_a_folding_source_has_lost(rule):
    folding, one, other = RULES[rule]
    source, target, memory = FoldingStore("posts", folding), MemoryStore("office", {}), Memory()
    for name in (one, other):
        target.set(b"dawn/" + name.encode(), name.encode())
    await run(memory, source, target, intent="mirror")
    assert done(memory) == {"refuse name-clash (name-clash)": 2}
    assert len(target.objects) == 2


def mounted(tmp_path, kind, make, mount):
    """A real file system that folds case, in a file of its own; skipped where it
    can't be mounted.
    """
    image, place = tmp_path / "disk.img", tmp_path / kind
    place.mkdir()
    with open(image, "wb") as file:
        file.truncate(64 << 20)
    device = str(image)
    try:
        subprocess.run([*make, device], check=True, capture_output=True)
        if mount[0] == "mount.exfat-fuse":
            found = subprocess.run(
                ["losetup", "-f", "--show", device], check=True, capture_output=True, text=True
            )
            device = found.stdout.strip()
        subprocess.run([mount[0], device, str(place), *mount[1:]], check=True, capture_output=True)
    except (OSError, subprocess.CalledProcessError) as exc:
        pytest.skip(f"may not mount a file system here: {exc}")
    return place, device


@pytest.fixture(params=["exfat", "ntfs"])
def disk(request, tmp_path):
    """exFAT keeps the case that it was given; NTFS mounted like this shows every name in lower
    case.
    """
    kinds = {
        "exfat": (["mkfs.exfat"], ["mount.exfat-fuse"]),
        "ntfs": (["mkntfs", "-F", "-q"], ["lowntfs-3g", "-o", "ignore_case"]),
    }
    place, device = mounted(tmp_path, request.param, *kinds[request.param])
    yield place
    subprocess.run(["umount", str(place)], check=True)
    if device.startswith("/dev/"):
        subprocess.run(["losetup", "-d", device], check=True)


def contents(place):
    return {
        str(p.relative_to(place)).casefold(): p.read_bytes()
        for p in place.rglob("*")
        if p.is_file() and ".pinecart" not in str(p)
    }


async def test_a_mirror_onto_a_real_disk_that_folds_names(disk, tmp_path):
    source = MemoryStore("posts", {})
    for name in (
        "Aldermurr/Dawn.flac",
        "aldermurr/dusk.flac",
        "Notes.txt",
        "clash/A",
        "clash/a",
        "übung.csv",
    ):
        source.set(name.encode(), name.encode() * 3)
    target = lambda: open_store({"kind": "folder", "name": "office", "path": str(disk)})  # noqa: E731
    memory = Memory()
    ending = await run(memory, source, target(), intent="mirror")
    assert ending.error is None
    assert done(memory) == {"copy new": 4, "refuse name-clash (name-clash)": 2}
    wanted = {
        n.casefold(): n.encode() * 3
        for n in ("Aldermurr/Dawn.flac", "aldermurr/dusk.flac", "Notes.txt", "übung.csv")
    }
    assert contents(disk / "dawn") == wanted
    assert all(
        r.proof == "read-back" for r in memory.records.values() if r.done and r.decision == "copy"
    )
    del source.objects[b"clash/A"]
    del source.objects[b"clash/a"]
    assert (await run(memory, source, target(), 2, intent="mirror")).acted == 0
    del source.objects[b"Notes.txt"]
    source.set(b"NOTES.TXT", b"rewritten")
    del source.objects[b"aldermurr/dusk.flac"]
    guards = {"removals": 9, "removals-percent": 100, "replacements-percent": 100}
    ending = await run(memory, source, target(), 3, intent="mirror", guards=guards)
    assert not ending.held and done(memory) == {"replace changed": 1, "remove gone": 1}
    del wanted["aldermurr/dusk.flac"]
    assert contents(disk / "dawn") == wanted | {"notes.txt": b"rewritten"}
    assert not [p for p in disk.rglob("*") if p.name.endswith(".part")]
    aside = [("office", b".pinecart-aside/3/")]
    assert (await run(memory, source, target(), 4, intent="mirror", ours=aside)).acted == 0


async def test_a_name_that_a_real_disk_cant_hold_is_refused_and_listed(disk):
    source, memory = MemoryStore("posts", {}), Memory()
    for name in ("why?", "so?/x", "plain"):
        source.set(name.encode(), name.encode())
    await run(memory, source, open_store({"kind": "folder", "name": "office", "path": str(disk)}))
    refused = {"exfat": {"copy new": 1, "copy new (unsafe-name)": 2}, "ntfs": {"copy new": 3}}
    assert done(memory) == refused[disk.name]
    assert {n.encode() for n in ("why?", "so?/x", "plain")} >= set(contents(disk / "dawn").values())
    assert len(contents(disk / "dawn")) == refused[disk.name]["copy new"]


async def test_a_move_from_and_a_comparison_by_time_with_a_real_disk_that_folds_names(
    disk, tmp_path
):
    (disk / "Posts").mkdir()
    for n in range(5):
        (disk / f"Posts/Song{n}.flac").write_bytes(b"song" * n)
        os.utime(
            disk / f"Posts/Song{n}.flac", ns=(10**18 + 3 * RACY_NS // 4, 10**18 + 3 * RACY_NS // 4)
        )
    there = tmp_path / "there"
    there.mkdir()
    office = lambda: open_store({"kind": "folder", "name": "office", "path": str(there)})  # noqa: E731
    memory = Memory()
    await run(memory, posts(disk / "Posts"), office(), compare="size-and-time")
    assert done(memory) == {"copy new": 5}
    back = open_store({"kind": "folder", "name": "office", "path": str(disk)})
    back_memory = Memory()
    for p in (there / "dawn").iterdir():
        os.utime(p, ns=(10**18 + 123_456_789, 10**18 + 123_456_789))
    await run(back_memory, posts(there / "dawn"), back, compare="size-and-time")
    assert done(back_memory) == {"copy new": 5}
    back_memory.rows.clear()
    ending = await run(back_memory, posts(there / "dawn"), back, 2, compare="size-and-time")
    assert ending.acted == 0, "times that this disk keeps coarsely were taken for others"
    moved = Memory()
    for p in (there / "dawn").iterdir():
        p.unlink()
    await run(moved, posts(disk / "Posts"), office(), intent="hand-over")
    assert not [p for p in (disk / "Posts").iterdir() if p.is_file()]
    assert len(contents(there / "dawn")) == 5
