"""Bare loops over blob storage and Swift, by the same transport, that take the same steps without
records: one request for a small object, parts of a large one several at once.
"""

from __future__ import annotations

import asyncio
import hashlib
import os
from base64 import b64encode
from collections.abc import Callable
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import orjson

from bench.common import PART, cpu, each, landing, parts_of
from pinecart.core.checksum import crc_of
from pinecart.drivers.blob.client import account_of
from pinecart.drivers.blob.signing import signed
from pinecart.drivers.blob.wire import API_VERSION, block_id, block_list
from pinecart.drivers.transport import transport_from
from pinecart.json_object import JsonObject

WIDTH = 16
MADE = (201, 202)


class BareBlobs:
    def __init__(self, spec: JsonObject) -> None:
        parts = urlsplit(spec["endpoint"])
        self.base, self.where = parts.path, spec["root"]
        self.transport = transport_from(f"{parts.scheme}://{parts.netloc}", spec)
        self.account = account_of(spec)

    async def ask(
        self,
        method: str,
        name: str,
        headers: dict[str, str],
        query: list[tuple[str, str | bytes]] | None = None,
        body: bytes = b"",
    ) -> Any:
        told = {"x-ms-version": API_VERSION, **headers}
        if method == "PUT":
            told["content-length"] = str(len(body))
        path = f"{self.base}/{self.where}/{name}"
        text, full = signed(method, path, query or [], told, self.account, datetime.now(UTC))
        return await self.transport.ask(method, f"{path}?{text}" if text else path, full, body)

    async def make(self) -> None:
        query: list[tuple[str, str | bytes]] = [("restype", "container")]
        assert (await self.ask("PUT", "", {}, query)).status in (*MADE, 409)

    async def put(self, name: str, body: bytes) -> None:
        md5 = b64encode(hashlib.md5(body, usedforsecurity=False).digest()).decode()
        headers = {"x-ms-blob-type": "BlockBlob", "content-md5": md5, "if-none-match": "*"}
        assert (await self.ask("PUT", name, headers, body=body)).status in MADE

    async def part(self, name: str, number: int, body: bytes) -> str:
        block = block_id(number, crc_of(body))
        md5 = b64encode(hashlib.md5(body, usedforsecurity=False).digest()).decode()
        query: list[tuple[str, str | bytes]] = [("comp", "block"), ("blockid", block)]
        assert (await self.ask("PUT", name, {"content-md5": md5}, query, body)).status in MADE
        return block

    async def complete(self, name: str, parts: list[str], sizes: list[int]) -> None:
        query: list[tuple[str, str | bytes]] = [("comp", "blocklist")]
        headers = {"if-none-match": "*"}
        assert (await self.ask("PUT", name, headers, query, block_list(parts))).status in MADE


class BareSwift:
    def __init__(self, spec: JsonObject) -> None:
        self.spec, self.where = spec, spec["root"]
        url = urlsplit(spec["auth_url"])
        self.transport, self.path = transport_from(f"{url.scheme}://{url.netloc}", spec), ""
        self.headers: dict[str, str] = {}

    async def make(self) -> None:
        who = {"x-auth-user": self.spec["user"], "x-auth-key": self.spec["key"]}
        answer = await self.transport.ask("GET", urlsplit(self.spec["auth_url"]).path, who)
        self.path = urlsplit(answer.headers["X-Storage-Url"]).path
        self.headers = {"x-auth-token": answer.headers["X-Auth-Token"]}
        for name in (self.where, f"{self.where}_segments"):
            made = await self.transport.ask("PUT", f"{self.path}/{name}", self._told({}, b""))
            assert made.status in MADE

    def _told(self, headers: dict[str, str], body: bytes) -> dict[str, str]:
        return self.headers | headers | {"content-length": str(len(body))}

    async def ask(
        self,
        method: str,
        name: str,
        headers: dict[str, str],
        query: str = "",
        body: bytes = b"",
        where: str = "",
    ) -> Any:
        told = self._told(headers, body) if method == "PUT" else self.headers | headers
        target = f"{self.path}/{where or self.where}/{name}{query}"
        return await self.transport.ask(method, target, told, body)

    async def put(self, name: str, body: bytes) -> None:
        md5 = hashlib.md5(body, usedforsecurity=False).hexdigest()
        headers = {"etag": md5, "if-none-match": "*"}
        assert (await self.ask("PUT", name, headers, body=body)).status in MADE

    async def part(self, name: str, number: int, body: bytes) -> str:
        crc_of(body)
        md5 = hashlib.md5(body, usedforsecurity=False).hexdigest()
        where, there = f"{self.where}_segments", f"{name}/{number:08}"
        made = await self.ask("PUT", there, {"etag": md5}, body=body, where=where)
        assert made.status in MADE
        return md5

    async def complete(self, name: str, parts: list[str], sizes: list[int]) -> None:
        rows = [
            {"path": f"/{self.where}_segments/{name}/{n:08}", "etag": md5, "size_bytes": size}
            for n, (md5, size) in enumerate(zip(parts, sizes, strict=True), 1)
        ]
        query, headers = "?multipart-manifest=put", {"if-none-match": "*"}
        assert (await self.ask("PUT", name, headers, query, orjson.dumps(rows))).status in MADE


Bare = BareBlobs | BareSwift
OPENS: dict[str, Callable[[JsonObject], Bare]] = {"blob": BareBlobs, "swift": BareSwift}


def made_bucket(spec: JsonObject, where: str) -> JsonObject:
    async def make() -> None:
        bare = OPENS[spec["kind"]](spec | {"root": where})
        await bare.make()
        await bare.transport.close()

    asyncio.run(make())
    return spec | {"root": where}


def filled(spec: JsonObject, where: str, files: list[Path]) -> None:
    """These files, for whoever reads them."""
    made = made_bucket(spec | {"name": "b", "allowed": ["127.0.0.0/8"]}, where)
    put_all(made, files)


def put_all(spec: JsonObject, files: list[Path]) -> float:
    async def put(bare: Bare, file: Path) -> None:
        if file.stat().st_size <= PART:
            body = file.read_bytes()
            crc_of(body)
            await bare.put(file.name, body)
            return
        parts = parts_of([file])
        etags = [""] * len(parts)

        async def one(item: tuple[Path, int, int]) -> None:
            with file.open("rb") as near:
                body = os.pread(near.fileno(), item[2], item[1])
            etags[item[1] // PART] = await bare.part(file.name, item[1] // PART + 1, body)

        await each(parts, one, 4)
        await bare.complete(file.name, etags, [item[2] for item in parts])

    return asyncio.run(_measured(spec, files, put))


def get_all(spec: JsonObject, path: Path) -> float:
    with landing(path) as there:

        async def get(bare: Bare, file: Path) -> None:
            fd = os.open(f"{there}/{file.name}", os.O_WRONLY | os.O_CREAT, 0o600)
            size = file.stat().st_size

            async def piece(item: tuple[Path, int, int]) -> None:
                last = item[1] + item[2] - 1
                asked = {} if item[2] == size else {"range": f"bytes={item[1]}-{last}"}
                body = (await bare.ask("GET", file.name, asked)).body
                assert len(body) == item[2]
                crc_of(body)
                os.pwrite(fd, body, item[1])

            await each(parts_of([file]), piece, 4)
            await asyncio.to_thread(os.fsync, fd)
            os.close(fd)

        return asyncio.run(_measured(spec, sorted(path.iterdir()), get))


async def _measured(
    spec: JsonObject, files: list[Path], work: Callable[[Bare, Path], Any]
) -> float:
    bare = OPENS[spec["kind"]](spec)
    await bare.make()
    began = cpu()
    await each(iter(files), partial(work, bare), WIDTH)
    await bare.transport.close()
    return cpu() - began
