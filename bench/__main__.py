"""Runs every figure and holds it against what it may be at most. Ratios within one run: the
machines are noisy.

`python -m bench [quick|brief|whole] [GROUP…]`: quick only shows that it works, brief takes some
minutes; each figure's name has its numbers. Median of interleaved pairs; CPU is user and system of
our process, the server excluded; floors read the same files and sign and send in parts of the same
size.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from bench import bare_objects, service
from bench.common import KEY, MIB, SECRET
from tests.servers.azurite import azurite
from tests.servers.dav import apache
from tests.servers.hdfs import hdfs
from tests.servers.sftp import openssh
from tests.servers.smb import samba
from tests.servers.swift_door import swift_server

SIZES = {
    "quick": (500, 64, 2_000, 1, 1),
    "brief": (5_000, 512, 200_000, 3, 3),
    "whole": (20_000, 4096, 1_000_000, 5, 5),
}
MODE = sys.argv[1] if len(sys.argv) > 1 else "whole"
SMALL, LARGE_MIB, TREE, PAIRS, FEW = SIZES[MODE]  # few: pairs of what takes long
LOCAL_MIB = 64 if MODE == "quick" else 2048
MEMORY_MIB = 200.0
PAGES = (50, 500, 10_000) if MODE == "quick" else (500, 50_000, 1_000_000)
PROVEN = (20, 100, 2_000) if MODE == "quick" else (5_000, 1_000, 1_000_000)
FIRST = 100_000  # objects in the source when the first is awaited


@contextlib.contextmanager
def store(folder: Path | None) -> Iterator[str]:
    """A stand-in store in a process of its own, in memory or in a folder."""
    with tempfile.TemporaryDirectory() as own:
        port = 18_900
        config = Path(own) / "standin.json"
        told = {
            "port": port,
            "folder": str(folder) if folder else None,
            "accounts": {KEY: {"secret": SECRET}},
        }
        config.write_text(json.dumps(told))
        process = subprocess.Popen(
            [sys.executable, "-m", "pinecart.standins", str(config)], stdin=subprocess.PIPE
        )
        try:
            for _ in range(200):
                with (
                    contextlib.suppress(OSError),
                    urllib.request.urlopen(f"http://127.0.0.1:{port}/_standin/counts", timeout=1),
                ):
                    break
                with contextlib.suppress(subprocess.TimeoutExpired):
                    process.wait(0.05)
            yield f"http://127.0.0.1:{port}"
        finally:
            process.terminate()
            process.wait()


def in_memory(files: Path) -> None:
    """All of them, for whoever's turn it is: who reads first would pay for the next one."""
    for path in files.iterdir():
        if path.is_file():
            with path.open("rb") as file:
                while file.read(MIB):
                    pass


def measured_at(spec: dict[str, Any], name: str, files: Path) -> dict[str, Any]:
    """At a server of another kind."""
    in_memory(files)
    ask = [sys.executable, "-m", "bench.work", name, json.dumps(spec), str(files)]
    found: dict[str, Any] = json.loads(subprocess.check_output(ask))
    return found


def measured(name: str, files: Path, kept: Path | None = None) -> dict[str, Any]:
    if kept is not None:
        shutil.rmtree(
            kept, ignore_errors=True
        )  # else what the pair before left there would be recognised
    in_memory(files)
    with store(kept) as endpoint:
        told = subprocess.check_output(
            [sys.executable, "-m", "bench.work", name, endpoint, str(files)]
        )
        found: dict[str, Any] = json.loads(told)
    return found


class Table:
    def __init__(self) -> None:
        self.rows: list[dict[str, Any]] = []

    def add(self, name: str, ratio: float, at_most: float) -> None:
        self.rows.append({"name": name, "ratio": round(ratio, 3), "at_most": at_most})
        print(
            f"{ratio:>8.3f}  at most {at_most:<5} {' ' if ratio <= at_most else '▲'} {name}",
            flush=True,
        )

    def against(
        self,
        name: str,
        ours: str,
        floors: dict[str, float],
        files: Path,
        pairs: int,
        kept: Path | None = None,
    ) -> None:
        """Our figure to each floor: median of the ratios of pairs measured in turn."""
        found: dict[str, list[float]] = {floor: [] for floor in floors}
        peak = 0.0
        for _ in range(pairs):
            mine = measured(ours, files, kept)
            peak = max(peak, mine["peak_mib"])
            for floor in floors:
                found[floor].append(mine["value"] / measured(floor, files, kept)["value"])
        for floor, at_most in floors.items():
            self.add(f"{name}, to {floor}", statistics.median(found[floor]), at_most)
        if "put" in ours or "get" in ours:
            self.add(f"peak memory of: {name}, to 200 MiB", peak / MEMORY_MIB, 1.0)

    def at_kind(
        self, name: str, what: tuple[str, str], spec: dict[str, Any], files: Path, at_most: float
    ) -> None:
        """what: a kind of store, and put or get."""
        kind, way = what
        ratios, peak = [], 0.0
        for _ in range(FEW):
            mine = measured_at(spec, f"engine-kind-{way}", files)
            bare = measured_at(spec, f"bare-{kind}-{way}", files)
            ratios.append(mine["value"] / bare["value"])
            peak = max(peak, mine["peak_mib"])
        self.add(name, statistics.median(ratios), at_most)
        self.add(f"peak memory of: {name}, to 200 MiB", peak / MEMORY_MIB, 1.0)


def listing(table: Table, root: Path) -> None:
    table.against(
        "CPU of listing a page of 1 000 keys", "engine-page", {"bare-page": 0.6}, root, PAIRS
    )
    for name, at_most in (("list-known", 0.15), ("list-none-known", 0.35)):
        how = "ranges known" if name == "list-known" else "none known"
        table.against(
            f"wall time of listing 500 000 keys, {how}", name, {"list-one": at_most}, root, 1
        )


def width(table: Table, root: Path) -> None:
    for ms in (5, 50, 200):
        worst = statistics.median(measured(f"width-{ms}", root)["value"] for _ in range(FEW))
        table.add(
            f"time with the number at once found by itself, to the best fixed one, at {ms} ms",
            worst,
            1.2,
        )


def small(table: Table, root: Path) -> None:
    for n in range(SMALL):
        (root / f"{n:06}").write_bytes(os.urandom(4096))
    for how, ours, floors in (
        ("folder to bucket", "engine-put", {"bare-put": 1.1, "sdk-put": 0.15}),
        ("bucket to folder", "engine-get", {"bare-get": 1.4, "sdk-get": 0.22}),
    ):
        table.against(f"CPU of {SMALL} objects of 4 KiB, {how}, recorded", ours, floors, root, FEW)


def copies(table: Table, root: Path) -> None:
    for n in range(SMALL):
        (root / f"{n:06}").write_bytes(os.urandom(4096))
    table.against(
        f"CPU of {SMALL} copies inside one store, recorded",
        "engine-copies",
        {"bare-copies": 1.6},
        root,
        FEW,
    )


def long_file(folder: Path, mib: int = LARGE_MIB) -> Path:
    with (folder / "long").open("wb") as file:
        for _ in range(mib):
            file.write(os.urandom(1 << 20))
    return folder


def parts(table: Table, root: Path) -> None:
    table.add(
        "peak memory of 6 GiB in parts of 525 MiB, to 200 MiB",
        measured("huge", root)["value"] / MEMORY_MIB,
        1.0,
    )


def large_out(table: Table, root: Path) -> None:
    name = f"CPU of {LARGE_MIB} MiB, in parts, checksummed"
    table.against(
        name, "engine-put", {"bare-put-large": 1.3}, long_file(root), FEW, root.parent / "kept"
    )


def large_in(table: Table, root: Path) -> None:
    name = f"CPU of {LARGE_MIB} MiB, bucket to folder, flushed"
    table.against(name, "engine-get", {"bare-get": 1.3}, long_file(root), FEW, root.parent / "kept")


def local(table: Table, root: Path) -> None:
    for ours, how, at_most in (
        ("engine-copy", "read back", 1.5),
        ("engine-copy-unread", "not read back", 1.15),
    ):
        name = f"wall time of {LOCAL_MIB} MiB, folder to folder, flushed, {how}"
        table.against(name, ours, {"bare-copy": at_most}, long_file(root, LOCAL_MIB), PAIRS)


def memory(table: Table, root: Path) -> None:
    for what in ("memory-unchanged", "memory-stalled"):
        peaks = [
            statistics.median(measured(f"{what}:{n}", root)["value"] for _ in range(FEW))
            for n in (TREE, TREE // 10)
        ]
        table.add(
            f"{what} at {TREE} objects minus at {TREE // 10}, to 10 MiB",
            (peaks[0] - peaks[1]) / 10,
            1.0,
        )


def plan(table: Table, root: Path) -> None:
    for n in range(TREE):
        folder = root / f"{n // 500:04}"
        folder.mkdir(exist_ok=True)
        (folder / f"{n:07}").touch()
    table.against(
        f"CPU of planning {TREE} unchanged objects", "engine-plan", {"bare-plan": 2.8}, root, FEW
    )
    for folder in sorted(root.iterdir())[FIRST // 500 :]:
        shutil.rmtree(folder)
    took = statistics.median(measured("first-object", root)["value"] for _ in range(FEW))
    table.add(
        f"from the API's answer to the first of {min(FIRST, TREE)} new objects moved, to 1 s",
        took,
        1.0,
    )


def kinds(table: Table, root: Path) -> None:
    """Each kind of store of other machines, to a bare loop of the same library."""
    sizes = (("small", f"{SMALL} objects of 4 KiB", 1.5), ("large", f"{LARGE_MIB} MiB", 1.3))
    with (
        openssh(root.parent / "sshd") as ssh,
        apache() as dav,
        samba() as smb,
        hdfs(root.parent / "hdfs") as system,
        azurite() as blobs,
        swift_server() as swift,
    ):
        specs = {
            "sftp": ssh.spec(root.parent / "far"),
            "webdav": dav.spec(dav.folder("far")),
            "smb": smb.spec(smb.folder("far")),
            "webhdfs": system.spec(system.folder("far")),
            "blob": blobs.spec(filled="there-"),
            "swift": swift.spec(filled=f"there-{os.getpid()}-"),
        }
        (root.parent / "far").mkdir()
        for size, what, at_most in sizes:
            files = root / size
            files.mkdir()
            for n in range(SMALL if size == "small" else 0):
                (files / f"{n:06}").write_bytes(os.urandom(4096))
            if size == "large":
                long_file(files)
            for served in (dav.root, smb.root, system.root):
                shutil.copytree(files, served / size)
            for kind in ("blob", "swift"):
                where = f"{specs[kind]['filled']}{size}"
                bare_objects.filled(specs[kind], where, sorted(files.iterdir()))
            for kind, spec in specs.items():
                for way in ("put", "get"):
                    table.at_kind(f"CPU of {what}, {kind} {way}", (kind, way), spec, files, at_most)


def pages(table: Table, root: Path) -> None:
    service.pages(table.add, *PAGES)


def proving(table: Table, root: Path) -> None:
    service.proving(table.add, *PROVEN)


def many(table: Table, root: Path) -> None:
    service.many(table.add, 20 if MODE == "quick" else 200)


def viewers(table: Table, root: Path) -> None:
    service.viewers(table.add, 20 if MODE == "quick" else 200)


def bursts(table: Table, root: Path) -> None:
    service.bursts(table.add, 200 if MODE == "quick" else 2000)


def stops(table: Table, root: Path) -> None:
    service.stops(table.add)


GROUPS = (
    listing,
    width,
    small,
    copies,
    parts,
    large_out,
    large_in,
    local,
    memory,
    plan,
    kinds,
    pages,
    proving,
    many,
    viewers,
    bursts,
    stops,
)


def main() -> None:
    table, wanted = Table(), sys.argv[2:]
    for group in [g for g in GROUPS if not wanted or g.__name__ in wanted]:
        with tempfile.TemporaryDirectory() as own:
            root = Path(own) / "files"
            root.mkdir()
            group(table, root)
    if MODE != "quick":
        file = Path(__file__).with_name("results.json")
        measured_now = {row["name"] for row in table.rows}
        others = (
            [row for row in json.loads(file.read_text()) if row["name"] not in measured_now]
            if wanted
            else []
        )
        file.write_text(json.dumps(others + table.rows, indent=1) + "\n")


if __name__ == "__main__":
    main()
