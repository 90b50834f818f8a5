"""Bare loops over WebDAV, by the same transport, that take the same steps without records: a hidden
file, read back, renamed; and parts of a large one, several at once.
"""

from __future__ import annotations

import asyncio
import os
from base64 import b64encode
from collections.abc import AsyncIterator, Callable
from functools import partial
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from bench.common import MIB, PART, cpu, each, landing, parts_of
from pinecart.core.checksum import crc_of
from pinecart.drivers.http_message import Pieces
from pinecart.drivers.transport import Transport, transport_from

WIDTH = 16
MADE, THERE = 201, 405


class Bare:
    """One signed-in transport."""

    def __init__(self, spec: dict[str, Any]) -> None:
        parts = urlsplit(spec["url"])
        self.base = parts.path.rstrip("/")
        self.transport: Transport = transport_from(f"{parts.scheme}://{parts.netloc}", spec)
        who = b64encode(f"{spec['user']}:{spec['password']}".encode()).decode()
        self.signed = {"authorization": f"Basic {who}"}

    async def ask(self, method: str, name: str, body: Any = None, **headers: str) -> Any:
        target = f"{self.base}/{name}"
        told = self.signed | {k.replace("_", "-"): v for k, v in headers.items()}
        return await self.transport.ask(method, target, told, body, most=64 * MIB)

    async def part(self, name: str, start: int, size: int) -> bytes:
        answer = await self.ask("GET", name, range=f"bytes={start}-{start + size - 1}")
        assert len(answer.body) == size
        body: bytes = answer.body
        return body


def made_folder(spec: dict[str, Any], where: str) -> dict[str, Any]:
    async def make() -> int:
        bare = Bare(spec)
        answer = await bare.ask("MKCOL", f"{where}/")
        await bare.transport.close()
        status: int = answer.status
        return status

    assert asyncio.run(make()) in (MADE, THERE)
    return spec | {"url": f"{spec['url']}/{where}"}


def put_all(spec: dict[str, Any], files: list[Path]) -> float:
    async def put(bare: Bare, file: Path) -> None:
        size, hidden = file.stat().st_size, f".{file.name}"
        body: bytes | Pieces = file.read_bytes() if size <= PART else streamed(file, size)
        assert (await bare.ask("PUT", hidden, body, if_none_match="*")).status == MADE
        if size <= PART:
            assert crc_of((await bare.ask("GET", hidden)).body) == crc_of(bytes(body))
        else:

            async def back(item: tuple[Path, int, int]) -> None:
                crc_of(await bare.part(hidden, item[1], item[2]))

            await each(parts_of([file]), back, 4)
        where = f"{bare.transport.origin}{bare.base}/{file.name}"
        assert (await bare.ask("MOVE", hidden, destination=where, overwrite="F")).status == MADE

    return asyncio.run(_measured(spec, files, put))


def streamed(file: Path, size: int) -> Pieces:
    async def chunks() -> AsyncIterator[bytes]:
        with file.open("rb") as near:
            while some := near.read(PART):
                crc_of(some)
                yield some

    return Pieces(size, chunks)


def get_all(spec: dict[str, Any], path: Path) -> float:
    with landing(path) as there:

        async def get(bare: Bare, file: Path) -> None:
            fd = os.open(f"{there}/{file.name}", os.O_WRONLY | os.O_CREAT, 0o600)

            async def piece(item: tuple[Path, int, int]) -> None:
                whole = item[2] == file.stat().st_size
                body = (await bare.ask("GET", file.name)).body if whole else None
                body = body or await bare.part(file.name, item[1], item[2])
                crc_of(body)
                os.pwrite(fd, body, item[1])

            await each(parts_of([file]), piece, 4)
            await asyncio.to_thread(os.fsync, fd)
            os.close(fd)

        return asyncio.run(_measured(spec, sorted(path.iterdir()), get))


async def _measured(
    spec: dict[str, Any], files: list[Path], work: Callable[[Bare, Path], Any]
) -> float:
    bare, began = Bare(spec), cpu()
    await each(iter(files), partial(work, bare), WIDTH)
    await bare.transport.close()
    return cpu() - began
