"""What is measured, each in a process of its own: `python -m bench.work NAME ENDPOINT FOLDER`. Prints JSON.

Engine figures are whole recorded runs: plan, transfer, ledger and records through the ORM, and the look at the far side.
"""

from __future__ import annotations

import asyncio
import hashlib
import json
import os
import resource
import shutil
import sys
import tempfile
import time
from collections.abc import AsyncIterator, Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import asynccontextmanager, contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import aiohttp
from yarl import URL

from pinecart.core.entries import Entry, Row, fingerprint
from pinecart.drivers.memory import Held, MemoryStore

KEY, SECRET = "BENCH", "bench-secret"
MIB = 1 << 20
PART = 8 * MIB


def recorded(
    source: Any, target: Any, leg: dict[str, Any], *, known: Any = None, stalls: bool = False
) -> tuple[float, float]:
    """A whole recorded run in this process, over a fresh state folder. Gives CPU and wall time, in seconds.

    source, target: specs, or stores.   known: pages of ledger rows; then nothing is to do.   stalls: it is given up once it
    gets no further.
    """
    with tempfile.TemporaryDirectory() as own:
        os.environ |= {"PINECART_DATA": own, "DJANGO_SETTINGS_MODULE": "pinecart.service.config.settings"}
        from pinecart.service.config.state import State

        State(Path(own)).prepare()
        import django

        django.setup()
        from django.core.management import call_command
        from django.utils import timezone

        from pinecart.core.definition import read_definition
        from pinecart.drivers import open_store
        from pinecart.runner.run import Order, carry_out
        from pinecart.service.config.process import settle_in
        from pinecart.service.config.rights import SYSTEM
        from pinecart.service.runs import services
        from pinecart.service.worker.child import Desk

        call_command("migrate", verbosity=0)
        definition = read_definition({"job": "bench", "legs": [leg]})
        services.start_run(SYSTEM, definition, kind="transfer", cause="bench")
        run = services.claim_next(now=timezone.now(), limit=9)
        assert run is not None
        given = {"run": run.pk, "epoch": run.epoch, "kind": "transfer", "of": None, "definition": run.definition,
                 "awaited_unknown": []}  # fmt: skip

        async def work(log: Any) -> tuple[Any, float, float]:
            settle_in()
            desk = Desk(given, log)
            stores = {n: open_store(s) if isinstance(s, dict) else s for n, s in (("a", source), ("b", target))}
            order = Order(run.pk, "transfer", definition, stores, own)
            await asyncio.to_thread(desk.open_scopes, "bench", order)
            if known is not None:
                one = ThreadPoolExecutor(1)  # one connection, as a run has it
                async for rows in known(stores["a"]):
                    scoped = [(desk.scopes[0], row) for row in rows]
                    await asyncio.get_running_loop().run_in_executor(one, services.write_ledger, scoped)
            began, since = cpu(), time.monotonic()
            if stalls:
                task = asyncio.ensure_future(carry_out(order, desk))
                await asyncio.wait([task], timeout=15)
                assert not task.done()
                return None, cpu() - began, time.monotonic() - since
            ending = await carry_out(order, desk)
            return ending, cpu() - began, time.monotonic() - since

        with open(os.devnull, "w") as log:
            ending, used, took = asyncio.run(work(log))
        if ending is not None:
            assert ending.error is None, ending.error
            assert (ending.acted == 0) == (known is not None), "nothing of what was to be measured was done"
            services.end_run(run.pk, run.epoch, ending)
        return used, took


def peak() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


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
    """A folder to write into. Small files stay there until all is measured: ext4 searches long for a free inode where many
    were deleted a moment ago, which would count against whoever comes next."""
    there = tempfile.mkdtemp(dir=path.parent)
    yield there
    if any(file.stat().st_size > PART for file in path.iterdir()):
        shutil.rmtree(there)


def engine_put(endpoint: str, path: Path) -> float:
    asyncio.run(make_bucket(endpoint))
    return recorded(folder(path), bucket(endpoint), {"from": "pine://a/", "to": "pine://b/bench/"})[0]


def engine_get(endpoint: str, path: Path) -> float:
    asyncio.run(fill(endpoint, path))
    with landing(path) as there:
        return recorded(bucket(endpoint) | {"name": "a"}, folder(Path(there)) | {"name": "b"},
                        {"from": "pine://a/bench/", "to": "pine://b/"})[0]  # fmt: skip


class Prepared(MemoryStore):
    """A store of so many objects that lists them in pages made beforehand, or made as they are asked for, and takes none."""

    def __init__(self, count: int, *, ahead: bool = False) -> None:
        super().__init__("prepared", {})
        self._count = count
        self._pages = [self._page(at) for at in range(0, count, 1000)] if ahead else []

    def _page(self, at: int) -> list[Entry]:
        return [Entry(key_of(n), 0, None, "e") for n in range(at, min(at + 1000, self._count))]

    async def list(self, prefix: bytes, *, after: bytes = b"", folders: str = "") -> AsyncIterator[list[Entry]]:
        for at in range(0, self._count, 1000):
            await asyncio.sleep(0)
            yield self._pages[at // 1000] if self._pages else self._page(at)

    async def put(self, put: Any) -> Any:
        await asyncio.sleep(1e6)

    @asynccontextmanager
    async def open(self, key: bytes, expected: Entry | None = None, *, version: str = "") -> AsyncIterator[Any]:
        self.objects[key] = Held(b"", "e")
        async with super().open(key, expected) as reading:
            yield reading


def key_of(n: int) -> bytes:
    return b"%04d/%07d" % (n // 500, n)


async def known(store: Any) -> AsyncIterator[list[Row]]:
    """Ledger rows of all that a source has, in pages."""
    async for page in store.list(b""):
        yield [Row(e.key, fingerprint(e), "0|e") for e in page]


def engine_plan(endpoint: str, path: Path) -> float:
    """Nothing changed since the run before: a folder, prepared pages, the ledger through the ORM, five patterns."""
    patterns = [f"nothing-{n}/**" for n in range(5)]
    target = Prepared(sum(len(files) for _, _, files in os.walk(path)), ahead=True)
    leg = {"from": "pine://a/", "to": "pine://b/", "leave_out": patterns}
    return recorded(folder(path), target, leg, known=known)[0]


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


def memory(count: int, *, stalls: bool) -> float:
    """Peak memory in MiB of a run over so many objects: all unchanged, or all new at a destination that stalls."""
    source, target = Prepared(count), Prepared(0 if stalls else count)
    recorded(source, target, {"from": "pine://a/", "to": "pine://b/"}, known=None if stalls else known, stalls=stalls)
    return peak()


def first_object(endpoint: str, path: Path) -> float:
    """Seconds from the answer of the API to a start, until the first new object of many has arrived."""
    import subprocess

    from pinecart.client import Client

    asyncio.run(make_bucket(endpoint))
    counts = f"{endpoint}/_standin/counts"
    with tempfile.TemporaryDirectory() as state:
        command = [
            sys.executable,
            "-m",
            "pinecart.cli.main",
            "serve",
            "--data",
            state,
            "--port",
            "18905",
            "--folders",
            str(path),
        ]
        serving = subprocess.Popen(
            [*command, "--allow-address", "127.0.0.1"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        try:
            token = Path(state) / "token"
            while not (token.exists() and _answers("http://127.0.0.1:18905/api/v1/health")):
                time.sleep(0.1)
            with Client("http://127.0.0.1:18905", token.read_text()) as cart:
                cart.add_store({"name": "a", "kind": "folder", "path": str(path)})
                cart.add_store({k: v for k, v in bucket(endpoint).items() if k != "allowed"})
                cart.define_job({"job": "bench", "legs": [{"from": "pine://a/", "to": "pine://b/bench/"}]})
                time.sleep(3)  # a process waits for its order, as it does all day
                before = _told(counts)["counts"].get("put", 0)
                cart.start("bench")
                since = time.monotonic()
                # Two are our questions about checksums and conditions; the third is the first object.
                while _told(counts)["counts"].get("put", 0) < before + 3:
                    time.sleep(0.005)
                return time.monotonic() - since
        finally:
            serving.terminate()
            serving.wait(20)


def huge(endpoint: str, path: Path) -> float:
    """Peak memory in MiB while one object of 6 GiB goes from a folder to a bucket (whose server forgets what it is sent)."""
    import multiprocessing

    file = path / "huge"
    with file.open("wb") as out:
        out.truncate(6 << 30)
    server = multiprocessing.get_context("spawn").Process(target=_forgetful, args=(18_906,), daemon=True)
    server.start()
    while not _answers("http://127.0.0.1:18906/_standin/counts"):
        time.sleep(0.1)
    engine_put("http://127.0.0.1:18906", path)
    file.unlink()
    server.terminate()
    return peak()


def _forgetful(port: int) -> None:
    """The stand-in store, which keeps of a part its size alone."""
    import pinecart.standins.bucket_server as own

    class Parts(dict[int, Any]):
        def __setitem__(self, number: int, part: Any) -> None:
            super().__setitem__(number, (part[0], len(part[1]).to_bytes(8, "big"), part[2]))

    class Forgetful(own.BucketServer):
        def _start_upload(self, request: Any, asked: Any) -> Any:
            answer = super()._start_upload(request, asked)
            for upload in self.shelf.uploads.values():
                upload.parts = Parts(upload.parts)
            return answer

        def _complete(self, request: Any, asked: Any) -> Any:
            upload = self._upload(asked)
            size = sum(int.from_bytes(body, "big") for _, body, _ in upload.parts.values())
            self.shelf.put(asked.bucket, asked.key, b"", upload.headers, "f" * 32 + "-1").size = size
            del self.shelf.uploads[asked.query["uploadId"]]
            return own._xml("CompleteMultipartUploadResult", own._t("ETag", '"' + "f" * 32 + '-1"'))

    async def work() -> None:
        await own.serve(Forgetful({KEY: own.Account(SECRET)}), port)
        await asyncio.sleep(1e6)

    asyncio.run(work())


def _told(url: str) -> Any:
    import urllib.request

    with urllib.request.urlopen(url, timeout=5) as answer:
        return json.load(answer)


def _answers(url: str) -> bool:
    try:
        return bool(_told(url))
    except OSError:
        return False


def engine_copy(endpoint: str, path: Path, read_back: str = "yes") -> float:
    with tempfile.TemporaryDirectory(dir=path.parent) as there:
        target = folder(Path(there)) | {"name": "b", "read_back": read_back}
        return recorded(folder(path), target, {"from": "pine://a/", "to": "pine://b/"})[1]


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


# --- floors over the same wire -------------------------------------------------------------------------------------


def signed(method: str, host: str, path: str, size: int | None, payload: str, query: str = "") -> dict[str, str]:
    from pinecart.drivers.s3_wire import Keys
    from pinecart.drivers.s3_wire import signed as sign

    headers = {"host": host} | ({} if size is None else {"content-length": str(size)})
    return sign(method, path, query, headers, payload=payload, keys=Keys(KEY, SECRET), region="us-east-1",
                now=datetime.now(UTC))  # fmt: skip


async def looped(work: Callable[[Any, Any], Any], todo: list[Any], width: int = 16) -> None:
    items = iter(todo)
    async with aiohttp.ClientSession(read_bufsize=1 << 20) as session:

        async def one() -> None:
            for item in items:
                await work(session, item)

        await asyncio.gather(*(one() for _ in range(width)))


async def make_bucket(endpoint: str) -> None:
    from pinecart.drivers import open_store

    store = open_store(bucket(endpoint))
    await store.make_bucket("bench")
    await store.close()


async def puts(endpoint: str, path: Path) -> None:
    host = URL(endpoint).authority

    async def put(session: Any, file: Path) -> None:
        body = file.read_bytes()
        headers = signed("PUT", host, f"/bench/{file.name}", len(body), hashlib.sha256(body).hexdigest())
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
    """Large files in parts, without any checksum of ours: four at once, the payload signed as over any plain line."""
    import re

    host = URL(endpoint).authority
    for file in path.iterdir():
        at, empty = f"/bench/{file.name}", hashlib.sha256(b"").hexdigest()
        found: dict[str, Any] = {"etags": {}}

        async def start(session: Any, _: Any, at: str = at, empty: str = empty, found: dict[str, Any] = found) -> None:
            headers = signed("POST", host, at, 0, empty, "uploads=")
            async with session.post(URL(f"{endpoint}{at}?uploads=", encoded=True), headers=headers) as answer:
                found["id"] = re.search("<UploadId>(.*)</UploadId>", await answer.text())[1]  # type: ignore[index]

        async def part(
            session: Any, number: int, at: str = at, file: Path = file, found: dict[str, Any] = found
        ) -> None:
            with file.open("rb") as source:
                body = os.pread(source.fileno(), PART, (number - 1) * PART)
            query = f"partNumber={number}&uploadId={found['id']}"
            headers = signed("PUT", host, at, len(body), hashlib.sha256(body).hexdigest(), query)
            async with session.put(URL(f"{endpoint}{at}?{query}", encoded=True), data=body, headers=headers) as answer:
                found["etags"][number] = answer.headers["ETag"]

        async def complete(session: Any, _: Any, at: str = at, found: dict[str, Any] = found) -> None:
            rows = "".join(
                f"<Part><PartNumber>{n}</PartNumber><ETag>{e}</ETag></Part>" for n, e in sorted(found["etags"].items())
            )
            body = f"<CompleteMultipartUpload>{rows}</CompleteMultipartUpload>".encode()
            query = f"uploadId={found['id']}"
            headers = signed("POST", host, at, len(body), hashlib.sha256(body).hexdigest(), query)
            async with session.post(URL(f"{endpoint}{at}?{query}", encoded=True), data=body, headers=headers) as answer:
                assert answer.status == 200, await answer.text()

        await looped(start, [0], 1)
        await looped(part, list(range(1, -(-file.stat().st_size // PART) + 1)), 4)
        await looped(complete, [0], 1)


def bare_put(endpoint: str, path: Path) -> float:
    asyncio.run(make_bucket(endpoint))
    began = cpu()
    asyncio.run(puts(endpoint, path))
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
            async with session.get(URL(f"{endpoint}/bench/{name}", encoded=True), headers=headers) as answer:
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
    from botocore.config import Config
    from botocore.session import get_session

    return get_session().create_client("s3", endpoint_url=endpoint, aws_access_key_id=KEY, aws_secret_access_key=SECRET,
                                       region_name="us-east-1", config=Config(max_pool_connections=32))  # fmt: skip


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


# --- without a wire ------------------------------------------------------------------------------------------------


def page_of_1000() -> bytes:
    rows = "".join(
        f"<Contents><Key>dawn/recordings/2026-03-02/{n:06}.flac</Key><LastModified>2026-03-02T05:30:00.000Z</LastModified>"
        f"<ETag>&quot;{n:032x}&quot;</ETag><Size>{n * 1000}</Size><StorageClass>STANDARD</StorageClass></Contents>"
        for n in range(1000)
    )
    return (
        '<?xml version="1.0" encoding="UTF-8"?><ListBucketResult><KeyCount>1000</KeyCount><EncodingType>url</EncodingType>'
        f"<IsTruncated>false</IsTruncated>{rows}</ListBucketResult>"
    ).encode()


def engine_page(endpoint: str, path: Path) -> float:
    from pinecart.drivers.s3_wire import parse_page

    body, began = page_of_1000(), cpu()
    for _ in range(300):
        assert len(parse_page(body, prefix=b"dawn/").entries) == 1000
    return cpu() - began


def bare_page(endpoint: str, path: Path) -> float:
    import xml.etree.ElementTree as ET

    body, began = page_of_1000(), cpu()
    for _ in range(300):
        ET.fromstring(body)
    return cpu() - began


class Slow:
    """A listing of 500 000 keys in prepared pages, each answer after 50 ms."""

    def __init__(self) -> None:
        from pinecart.core.entries import Entry

        self.entries = [Entry(b"%03d/%06d" % (n // 2500, n), 1, None, "e") for n in range(500_000)]
        self.keys = [e.key for e in self.entries]

    async def abilities(self, prefix: bytes) -> Any:
        from pinecart.core.ports import Abilities

        return Abilities(lists_ranges=True)

    async def list(self, prefix: bytes, *, after: bytes = b"", folders: str = "") -> AsyncIterator[list[Any]]:
        import bisect

        at = bisect.bisect_right(self.keys, after)
        while at < len(self.keys):
            await asyncio.sleep(0.05)
            yield self.entries[at : at + 1000]
            at += 1000

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Any:
        from pinecart.core.ports import Level

        await asyncio.sleep(0.05)
        return Level([b"%03d/" % n for n in range(200)], [])


def listed(cuts: Any) -> float:
    from pinecart.runner.ranges import in_ranges
    from pinecart.runner.side import Side

    store: Any = Slow()

    async def work() -> int:
        async def given() -> list[bytes]:
            return store.keys[999::1000] if cuts == "known" else []

        pages = store.list(b"") if cuts is None else in_ranges(Side(store, b""), given)
        return sum([len(page) async for page in pages])

    began = time.monotonic()
    assert asyncio.run(work()) == 500_000
    return time.monotonic() - began


def width_figure(seconds: float) -> float:
    """Best fixed number's throughput to what is found by itself: a far side that answers 32 at once, each after a while."""
    from pinecart.runner.pacing import Width
    from pinecart.runner.pool import Pool

    jobs = int(min(20_000, 100 / seconds))

    async def took(width: Width) -> float:
        server = asyncio.Semaphore(32)

        async def work() -> None:
            async with server:
                await asyncio.sleep(seconds)
            width.did(4096)

        began = time.monotonic()
        async with Pool(width) as pool:
            for _ in range(jobs):
                await pool.add(work)
            await pool.drain()
        return time.monotonic() - began

    def fixed(n: int) -> Width:
        return Width(lambda: n, n)

    best = min(asyncio.run(took(fixed(n))) for n in (8, 16, 32, 64))
    return asyncio.run(took(Width(lambda: 64))) / best


FIGURES: dict[str, Callable[[str, Path], float]] = {
    "engine-put": engine_put, "engine-get": engine_get, "engine-plan": engine_plan, "engine-copy": engine_copy, "engine-copy-unread": lambda e, p: engine_copy(e, p, "no"),
    "bare-put": bare_put, "bare-put-large": bare_put_large, "bare-get": bare_get, "bare-plan": bare_plan, "first-object": first_object, "huge": huge,
    "bare-copy": bare_copy, "sdk-put": sdk_put, "sdk-get": sdk_get, "engine-page": engine_page, "bare-page": bare_page,
    "list-known": lambda e, p: listed("known"), "list-none-known": lambda e, p: listed("none"), "list-one": lambda e, p: listed(None),
    "width-5": lambda e, p: width_figure(0.005), "width-50": lambda e, p: width_figure(0.05), "width-200": lambda e, p: width_figure(0.2),
}  # fmt: skip


def main() -> None:
    import uvloop

    asyncio.set_event_loop_policy(uvloop.EventLoopPolicy())
    name, _, count = sys.argv[1].partition(":")
    if count:
        value = memory(int(count), stalls=name == "memory-stalled")
    else:
        value = FIGURES[name](sys.argv[2], Path(sys.argv[3]))
    print(json.dumps({"value": value, "peak_mib": peak()}))


if __name__ == "__main__":
    main()
