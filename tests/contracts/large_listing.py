"""A large listing, in a process of its own: whether its order holds, and what it takes."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

MANY = 50_000
LISTED = """
import asyncio, json, resource, sys
from pinecart.core.listing import Ascending
from pinecart.drivers import open_store
def peak(): return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
async def main():
    store, count, check = open_store(json.load(sys.stdin)), 0, Ascending("test")
    await store.check_place(b"")
    before = peak()
    async for page in store.list(b""):
        count += sum(1 for _ in check.check(page))
    await store.close()
    print(count, peak() - before)
asyncio.run(main())
"""


def listed_of_many(spec: dict[str, object], root: Path) -> tuple[int, int]:
    """How many names a listing of MANY files below `root` told, in order, and by how many KiB the
    process grew.
    """
    for folder in range(MANY // 1000):
        (root / f"{folder:02}").mkdir()
        for n in range(1000):
            os.close(os.open(root / f"{folder:02}" / f"{n * 7919 % 1000:03}", os.O_CREAT))
    told = subprocess.run(
        [sys.executable, "-c", LISTED],
        input=json.dumps(spec | {"name": "partner", "allowed": ["127.0.0.0/8"]}),
        text=True,
        stdout=subprocess.PIPE,
        check=True,
    )
    count, grown_kib = map(int, told.stdout.split())
    return count, grown_kib
