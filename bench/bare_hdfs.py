"""Bare loops over WebHDFS, by the same transport, that take the same steps without records: a
hidden file, its time, read back, renamed; each with the two steps of the protocol.
"""

from __future__ import annotations

import asyncio
import os
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from bench.bare_dav import streamed
from bench.common import PART, cpu, each, landing, parts_of
from pinecart.core.checksum import crc_of
from pinecart.drivers.transport import Transport, transport_from

WIDTH, TIME_MS = 16, 1_700_000_000_000


class Bare:
    def __init__(self, spec: dict[str, Any]) -> None:
        self.spec, self.root = spec, f"/webhdfs/v1{spec['root']}"
        self.names = transport_from(spec["url"], spec)
        self.data: Transport | None = None

    async def ask(self, method: str, name: str, query: str) -> Any:
        asked = f"{self.root}/{name}?op={query}&user.name={self.spec['user']}"
        return await self.names.ask(method, asked, {})

    async def at_data(self, method: str, name: str, query: str, body: Any = None) -> Any:
        answer = await self.ask(method, name, query)
        where = urlsplit(answer.headers["Location"])
        if self.data is None:
            self.data = transport_from(f"{where.scheme}://{where.netloc}", self.spec)
        asked = f"{where.path}?{where.query}"
        return await self.data.ask(method, asked, {}, body, most=2 * PART)

    async def part(self, name: str, start: int, size: int) -> bytes:
        query = f"OPEN&offset={start}&length={size}"
        body: bytes = (await self.at_data("GET", name, query)).body
        assert len(body) == size
        return body

    async def close(self) -> None:
        await self.names.close()
        if self.data is not None:
            await self.data.close()


def made_folder(spec: dict[str, Any], where: str) -> dict[str, Any]:
    async def make() -> None:
        bare = Bare(spec)
        assert (await bare.ask("PUT", where, "MKDIRS")).status == 200
        await bare.close()

    asyncio.run(make())
    return spec | {"root": f"{spec['root']}/{where}"}


def put_all(spec: dict[str, Any], files: list[Path]) -> float:
    async def put(bare: Bare, file: Path) -> None:
        size, hidden = file.stat().st_size, f".{file.name}"
        body: Any = file.read_bytes() if size <= PART else streamed(file, size)
        await bare.at_data("PUT", hidden, "CREATE&overwrite=false", body)
        await bare.ask("PUT", hidden, f"SETTIMES&modificationtime={TIME_MS}&accesstime=-1")

        async def back(item: tuple[Path, int, int]) -> None:
            crc_of(await bare.part(hidden, item[1], item[2]))

        await each(parts_of([file]), back, 4)
        there = f"{spec['root']}/{file.name}"
        assert b"true" in (await bare.ask("PUT", hidden, f"RENAME&destination={there}")).body

    return asyncio.run(_measured(spec, files, put))


def get_all(spec: dict[str, Any], path: Path) -> float:
    with landing(path) as there:

        async def get(bare: Bare, file: Path) -> None:
            await bare.ask("GET", file.name, "GETFILESTATUS")
            fd = os.open(f"{there}/{file.name}", os.O_WRONLY | os.O_CREAT, 0o600)

            async def piece(item: tuple[Path, int, int]) -> None:
                body = await bare.part(file.name, item[1], item[2])
                crc_of(body)
                os.pwrite(fd, body, item[1])

            await each(parts_of([file]), piece, 4)
            await asyncio.to_thread(os.fsync, fd)
            os.close(fd)
            await bare.ask("GET", file.name, "GETFILESTATUS")

        return asyncio.run(_measured(spec, sorted(path.iterdir()), get))


async def _measured(
    spec: dict[str, Any], files: list[Path], work: Callable[[Bare, Path], Any]
) -> float:
    bare, began = Bare(spec), cpu()
    await each(iter(files), partial(work, bare), WIDTH)
    await bare.close()
    return cpu() - began
