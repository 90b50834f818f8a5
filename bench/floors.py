"""Floors: the same files, signed and sent in the same sizes, in bare loops; and a script with the
usual SDK.
"""

from __future__ import annotations

import asyncio
import hashlib
import os
import re
import tempfile
import time
import xml.etree.ElementTree as ET
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import aiohttp
from botocore.config import Config
from botocore.session import get_session
from yarl import URL

from bench.common import KEY, PART, SECRET, cpu, landing, make_bucket, page_of_1000
from pinecart.drivers.s3.signing import Keys
from pinecart.drivers.s3.signing import signed as sign


def signed(
    method: str,
    host: str,
    path: str,
    size: int | None,
    payload: str,
    query: str = "",
    *,
    more: dict[str, str] | None = None,
) -> dict[str, str]:
    headers = (
        {"host": host} | ({} if size is None else {"content-length": str(size)}) | (more or {})
    )
    return sign(
        method,
        path,
        query,
        headers,
        payload=payload,
        keys=Keys(KEY, SECRET),
        region="us-east-1",
        now=datetime.now(UTC),
    )


async def looped(work: Callable[[Any, Any], Any], todo: list[Any], width: int = 16) -> None:
    items = iter(todo)
    async with aiohttp.ClientSession(read_bufsize=1 << 20) as session:

        async def one() -> None:
            for item in items:
                await work(session, item)

        await asyncio.gather(*(one() for _ in range(width)))


async def puts(endpoint: str, path: Path) -> None:
    host = URL(endpoint).authority

    async def put(session: Any, file: Path) -> None:
        body = file.read_bytes()
        headers = signed(
            "PUT", host, f"/bench/{file.name}", len(body), hashlib.sha256(body).hexdigest()
        )
        async with session.put(
            URL(f"{endpoint}/bench/{file.name}", encoded=True), data=body, headers=headers
        ) as answer:
            assert answer.status == 200, await answer.text()

    await looped(put, sorted(path.iterdir()))


async def fill(endpoint: str, path: Path) -> None:
    """The same objects, put there before anything is measured."""
    await make_bucket(endpoint)
    if any(f.stat().st_size > PART for f in path.iterdir()):
        await parts(endpoint, path)
    else:
        await puts(endpoint, path)


async def parts(endpoint: str, path: Path) -> None:
    """Large files in parts, without any checksum of ours: four at once, the payload signed as over
    any plain line.
    """

    host = URL(endpoint).authority
    for file in path.iterdir():
        at, empty = f"/bench/{file.name}", hashlib.sha256(b"").hexdigest()
        found: dict[str, Any] = {"etags": {}}

        async def start(
            session: Any, _: Any, at: str = at, empty: str = empty, found: dict[str, Any] = found
        ) -> None:
            headers = signed("POST", host, at, 0, empty, "uploads=")
            async with session.post(
                URL(f"{endpoint}{at}?uploads=", encoded=True), headers=headers
            ) as answer:
                found["id"] = re.search("<UploadId>(.*)</UploadId>", await answer.text())[1]  # type: ignore[index]

        async def part(
            session: Any,
            number: int,
            at: str = at,
            file: Path = file,
            found: dict[str, Any] = found,
        ) -> None:
            with file.open("rb") as source:
                body = os.pread(source.fileno(), PART, (number - 1) * PART)
            query = f"partNumber={number}&uploadId={found['id']}"
            headers = signed("PUT", host, at, len(body), hashlib.sha256(body).hexdigest(), query)
            async with session.put(
                URL(f"{endpoint}{at}?{query}", encoded=True), data=body, headers=headers
            ) as answer:
                found["etags"][number] = answer.headers["ETag"]

        async def complete(
            session: Any, _: Any, at: str = at, found: dict[str, Any] = found
        ) -> None:
            rows = "".join(
                f"<Part><PartNumber>{n}</PartNumber><ETag>{e}</ETag></Part>"
                for n, e in sorted(found["etags"].items())
            )
            body = f"<CompleteMultipartUpload>{rows}</CompleteMultipartUpload>".encode()
            query = f"uploadId={found['id']}"
            headers = signed("POST", host, at, len(body), hashlib.sha256(body).hexdigest(), query)
            async with session.post(
                URL(f"{endpoint}{at}?{query}", encoded=True), data=body, headers=headers
            ) as answer:
                assert answer.status == 200, await answer.text()

        await looped(start, [0], 1)
        await looped(part, list(range(1, -(-file.stat().st_size // PART) + 1)), 4)
        await looped(complete, [0], 1)


def bare_put(endpoint: str, path: Path) -> float:
    asyncio.run(make_bucket(endpoint))
    began = cpu()
    asyncio.run(puts(endpoint, path))
    return cpu() - began


async def copies(endpoint: str, path: Path) -> None:
    """Each object copied by the store itself, from one bucket to another."""
    host = URL(endpoint).authority

    async def copy(session: Any, file: Path) -> None:
        at, of = f"/copies/{file.name}", {"x-amz-copy-source": f"/bench/{file.name}"}
        headers = signed("PUT", host, at, 0, hashlib.sha256(b"").hexdigest(), more=of)
        async with session.put(URL(f"{endpoint}{at}", encoded=True), headers=headers) as answer:
            assert answer.status == 200 and b"CopyObjectResult" in await answer.read()

    await looped(copy, sorted(path.iterdir()))


def bare_copies(endpoint: str, path: Path) -> float:
    asyncio.run(fill(endpoint, path))
    asyncio.run(make_bucket(endpoint, "copies"))
    began = cpu()
    asyncio.run(copies(endpoint, path))
    return cpu() - began


def bare_put_large(endpoint: str, path: Path) -> float:
    asyncio.run(make_bucket(endpoint))
    began = cpu()
    asyncio.run(parts(endpoint, path))
    return cpu() - began


def bare_get(endpoint: str, path: Path) -> float:
    """Small ones whole, large ones in ranges, written and flushed."""
    host, empty = URL(endpoint).authority, hashlib.sha256(b"").hexdigest()
    asyncio.run(fill(endpoint, path))
    todo = [
        (f.name, at, f.stat().st_size)
        for f in sorted(path.iterdir())
        for at in range(0, max(f.stat().st_size, 1), PART)
    ]
    with landing(path) as there:

        async def get(session: Any, item: tuple[str, int, int]) -> None:
            name, at, size = item
            headers = signed("GET", host, f"/bench/{name}", None, empty)
            if size > PART:
                headers["range"] = f"bytes={at}-{min(at + PART, size) - 1}"
            async with session.get(
                URL(f"{endpoint}/bench/{name}", encoded=True), headers=headers
            ) as answer:
                body = await answer.read()

            def write() -> None:
                fd = os.open(f"{there}/{name}", os.O_WRONLY | os.O_CREAT, 0o600)
                os.pwrite(fd, body, at)
                if size <= PART:
                    os.fsync(fd)
                os.close(fd)

            await asyncio.to_thread(write)

        async def whole() -> None:
            await looped(get, todo)
            for name in {n for n, _, size in todo if size > PART}:
                fd = os.open(f"{there}/{name}", os.O_RDONLY)
                await asyncio.to_thread(os.fsync, fd)
                os.close(fd)

        began = cpu()
        asyncio.run(whole())
        return cpu() - began


def sdk(endpoint: str) -> Any:
    return get_session().create_client(
        "s3",
        endpoint_url=endpoint,
        aws_access_key_id=KEY,
        aws_secret_access_key=SECRET,
        region_name="us-east-1",
        config=Config(max_pool_connections=32),
    )


def sdk_put(endpoint: str, path: Path) -> float:
    asyncio.run(make_bucket(endpoint))
    client, began = sdk(endpoint), cpu()

    def put(file: Path) -> None:
        client.put_object(Bucket="bench", Key=file.name, Body=file.read_bytes())

    with ThreadPoolExecutor(32) as pool:
        list(pool.map(put, sorted(path.iterdir())))
    return cpu() - began


def sdk_get(endpoint: str, path: Path) -> float:
    asyncio.run(fill(endpoint, path))
    with landing(path) as there:
        client, began = sdk(endpoint), cpu()

        def get(name: str) -> None:
            body = client.get_object(Bucket="bench", Key=name)["Body"].read()
            with open(f"{there}/{name}", "wb") as file:
                file.write(body)
                file.flush()
                os.fsync(file.fileno())

        with ThreadPoolExecutor(32) as pool:
            list(pool.map(get, sorted(p.name for p in path.iterdir())))
        return cpu() - began


def bare_plan(endpoint: str, path: Path) -> float:
    began, n, todo = cpu(), 0, [str(path)]
    while todo:
        with os.scandir(todo.pop()) as found:
            for entry in found:
                if entry.is_dir(follow_symlinks=False):
                    todo.append(entry.path)
                else:
                    n += entry.stat(follow_symlinks=False).st_size
    return cpu() - began


def bare_copy(endpoint: str, path: Path) -> float:
    with tempfile.TemporaryDirectory(dir=path.parent) as there:
        began = time.monotonic()
        for file in path.iterdir():
            with file.open("rb") as source, (Path(there) / file.name).open("wb") as target:
                size = file.stat().st_size
                while size:
                    size -= os.copy_file_range(source.fileno(), target.fileno(), size)
                os.fsync(target.fileno())
        return time.monotonic() - began


def bare_page(endpoint: str, path: Path) -> float:

    body, began = page_of_1000(), cpu()
    for _ in range(300):
        ET.fromstring(body)
    return cpu() - began
