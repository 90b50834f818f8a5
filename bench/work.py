"""What is measured, each in a process of its own: `python -m bench.work NAME ENDPOINT FOLDER`. Prints JSON."""

from __future__ import annotations

import asyncio
import hashlib
import json
import resource
import sys
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import aiohttp
import uvloop
from yarl import URL

from pinecart.core.definition import read_definition
from pinecart.drivers import open_store
from pinecart.drivers.s3_wire import Keys, signed
from pinecart.runner.run import Order, carry_out

KEY, SECRET = "BENCH", "bench-secret"


class Nothing:
    """Keeps records nowhere: the engine alone is measured."""

    def __init__(self) -> None:
        self.count = 0

    async def pages(self, leg: int) -> Any:
        return
        yield

    async def cuts(self, leg: int) -> list[bytes]:
        return []

    async def drop(self, leg: int, keys: list[bytes]) -> None: ...

    async def save(self, batch: list[Any]) -> None:
        self.count += len(batch)

    async def tell(self, progress: dict[str, Any]) -> None: ...

    def stopping(self) -> bool:
        return False

    def pausing(self) -> bool:
        return False

    def fresh(self, leg: int) -> bool:
        return False

    async def settled(self, leg: int) -> None: ...
    async def before(self, asides: list[Any], rows: list[Any]) -> None: ...
    async def meant(self, leg: int) -> list[Any]:
        return []

    def uploads(self, leg: int, side: str) -> None:
        return None

    async def uploads_left(self) -> list[Any]:
        return []

    def log(self, action: str, message: str, **fields: Any) -> None: ...


async def engine(endpoint: str, folder: Path) -> int:
    """A whole run of our engine, folder to bucket. Gives the objects carried."""
    spec = {
        "kind": "s3",
        "name": "office",
        "endpoint": endpoint,
        "key_id": KEY,
        "secret": SECRET,
        "allowed": ["127.0.0.0/8"],
    }
    stores = {"posts": open_store({"kind": "folder", "name": "posts", "path": str(folder)}), "office": open_store(spec)}
    await stores["office"].make_bucket("engine")
    definition = read_definition({"job": "bench", "legs": [{"from": "pine://posts/", "to": "pine://office/engine/"}]})
    records = Nothing()
    ending = await carry_out(Order(1, "transfer", definition, stores, "/tmp"), records)
    assert ending.error is None, ending.error
    return records.count


async def bare(endpoint: str, folder: Path) -> int:
    """The same puts in a bare loop over the same HTTP package: read, sign, send, many at once."""
    keys, todo, host = Keys(KEY, SECRET), sorted(folder.iterdir()), URL(endpoint).authority
    await open_bucket(endpoint, keys, host)
    files = iter(todo)
    async with aiohttp.ClientSession() as session:

        async def work() -> None:
            for file in files:
                body = file.read_bytes()
                path = f"/bare/{file.name}"
                headers = signed("PUT", path, "", {"host": host, "content-length": str(len(body))}, payload=hashlib.sha256(body).hexdigest(),
                                 keys=keys, region="us-east-1", now=datetime.now(UTC))  # fmt: skip
                async with session.put(URL(endpoint + path, encoded=True), data=body, headers=headers) as answer:
                    assert answer.status == 200, await answer.text()

        await asyncio.gather(*(work() for _ in range(16)))
    return len(todo)


async def open_bucket(endpoint: str, keys: Keys, host: str) -> None:
    headers = signed("PUT", "/bare", "", {"host": host, "content-length": "0"}, payload=hashlib.sha256(b"").hexdigest(), keys=keys,
                     region="us-east-1", now=datetime.now(UTC))  # fmt: skip
    async with aiohttp.ClientSession() as session, session.put(f"{endpoint}/bare", headers=headers) as answer:
        await answer.read()


def main() -> None:
    asyncio.set_event_loop_policy(uvloop.EventLoopPolicy())
    count = asyncio.run({"engine": engine, "bare": bare}[sys.argv[1]](sys.argv[2], Path(sys.argv[3])))
    used = resource.getrusage(resource.RUSAGE_SELF)
    print(json.dumps({"objects": count, "cpu_s": used.ru_utime + used.ru_stime, "peak_mib": used.ru_maxrss / 1024}))


if __name__ == "__main__":
    main()
