"""Runs every figure and holds it against what it may be at most. Ratios within one run: the machines are noisy."""

from __future__ import annotations

import contextlib
import json
import os
import statistics
import subprocess
import sys
import tempfile
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from bench.work import KEY, SECRET

SMALL, LARGE_BYTES, PAIRS = 20_000, 2 << 30, 3
MEMORY_MIB = 200.0


@contextlib.contextmanager
def store(folder: Path | None) -> Iterator[str]:
    """A stand-in store in a process of its own, in memory or in a folder."""
    with tempfile.TemporaryDirectory() as own:
        port = 18_900
        config = Path(own) / "standin.json"
        told = {"port": port, "folder": str(folder) if folder else None, "accounts": {KEY: {"secret": SECRET}}}
        config.write_text(json.dumps(told))
        process = subprocess.Popen([sys.executable, "-m", "pinecart.standins", str(config)], stdin=subprocess.PIPE)
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


def measured(name: str, files: Path, folder: Path | None = None) -> dict[str, Any]:
    with store(folder) as endpoint:
        found: dict[str, Any] = json.loads(
            subprocess.check_output([sys.executable, "-m", "bench.work", name, endpoint, str(files)])
        )
    return found


def main() -> None:
    rows = []
    with tempfile.TemporaryDirectory() as own:
        small, large = Path(own) / "small", Path(own) / "large"
        small.mkdir()
        large.mkdir()
        for n in range(SMALL):
            (small / f"{n:06}").write_bytes(os.urandom(4096))
        pairs = [(measured("engine", small), measured("bare", small)) for _ in range(PAIRS)]
        ratio = statistics.median(a["cpu_s"] / b["cpu_s"] for a, b in pairs)
        rows.append(
            ("cpu of 20 000 objects of 4 KiB, folder to bucket, engine without database, to a bare loop", ratio, 1.4)
        )
        rows.append(
            (
                "peak memory with 20 000 small objects, to 200 MiB",
                statistics.median(a["peak_mib"] for a, _ in pairs) / MEMORY_MIB,
                1.0,
            )
        )
        with (large / "long").open("wb") as file:
            file.truncate(LARGE_BYTES)
        rows.append(
            (
                "peak memory with one object of 2 GiB, to 200 MiB",
                measured("engine", large, Path(own) / "kept")["peak_mib"] / MEMORY_MIB,
                1.0,
            )
        )
    results = [{"name": name, "ratio": round(ratio, 3), "at_most": most} for name, ratio, most in rows]
    for row in results:
        print(
            f"{row['ratio']:>8}  at most {row['at_most']:<5} {'' if row['ratio'] <= row['at_most'] else '▲'} {row['name']}"
        )
    Path(__file__).with_name("results.json").write_text(json.dumps(results, indent=1) + "\n")


if __name__ == "__main__":
    main()
