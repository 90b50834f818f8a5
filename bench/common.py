"""What all that is measured shares: the key, the sizes, the CPU used, and where the files are."""

from __future__ import annotations

import asyncio
import resource
import shutil
import tempfile
from collections.abc import Awaitable, Callable, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

KEY, SECRET = "BENCH", "bench-secret"
MIB = 1 << 20
PART = 8 * MIB


def peak() -> float:
    """MiB of memory that this process held at most. `ru_maxrss` would begin with what the process
    held that started it.
    """
    told = dict(line.split(":", 1) for line in Path("/proc/self/status").read_text().splitlines())
    return int(told["VmHWM"].split()[0]) / 1024


def cpu() -> float:
    used = resource.getrusage(resource.RUSAGE_SELF)
    return used.ru_utime + used.ru_stime


def bucket(endpoint: str) -> dict[str, Any]:
    return {
        "kind": "s3",
        "name": "b",
        "endpoint": endpoint,
        "key_id": KEY,
        "secret": SECRET,
        "allowed": ["127.0.0.0/8"],
    }


def folder(path: Path) -> dict[str, Any]:
    return {"kind": "folder", "name": "a", "path": str(path)}


@contextmanager
def landing(path: Path) -> Iterator[str]:
    """A folder to write into. Small files stay there until all is measured: ext4 searches long for
    a free inode where many were deleted a moment ago, which would count against whoever comes next.
    """
    there = tempfile.mkdtemp(dir=path.parent)
    yield there
    if any(file.stat().st_size > PART for file in path.iterdir()):
        shutil.rmtree(there)


async def make_bucket(endpoint: str, name: str = "bench") -> None:
    from pinecart.drivers import open_store

    store = open_store(bucket(endpoint))
    await store.make_bucket(name)
    await store.close()


def page_of_1000() -> bytes:
    rows = "".join(
        f"<Contents><Key>dawn/recordings/2026-03-02/{n:06}.flac</Key><LastModified>2026-03-02T05:30:00.000Z</LastModified>"
        f"<ETag>&quot;{n:032x}&quot;</ETag><Size>{n * 1000}</Size>"
        "<StorageClass>STANDARD</StorageClass></Contents>"
        for n in range(1000)
    )
    return (
        '<?xml version="1.0" '
        'encoding="UTF-8"?><ListBucketResult><KeyCount>1000</KeyCount><EncodingType>url</EncodingType>'
        f"<IsTruncated>false</IsTruncated>{rows}</ListBucketResult>"
    ).encode()


async def each(todo: Iterable[Any], work: Callable[[Any], Awaitable[None]], width: int) -> None:
    items = iter(todo)

    async def one() -> None:
        for item in items:
            await work(item)

    await asyncio.gather(*(one() for _ in range(width)))


def parts_of(files: list[Path]) -> list[tuple[Path, int, int]]:
    return [
        (file, at, min(PART, file.stat().st_size - at))
        for file in files
        for at in range(0, max(file.stat().st_size, 1), PART)
    ]
