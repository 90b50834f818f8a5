"""Our own figures. Engine figures are whole recorded runs: plan, transfer, ledger and records
through the ORM, and the look at the far side.
"""

from __future__ import annotations

import asyncio
import bisect
import json
import multiprocessing
import os
import re
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import AsyncIterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import asynccontextmanager, closing
from pathlib import Path
from typing import Any

from bench.common import (
    KEY,
    MIB,
    SECRET,
    bucket,
    cpu,
    folder,
    landing,
    make_bucket,
    page_of_1000,
    peak,
)
from pinecart.core.entries import Entry, Row, fingerprint
from pinecart.core.ports import Abilities, Level
from pinecart.drivers.memory import HeldObject, MemoryStore
from pinecart.drivers.s3.wire import parse_page
from pinecart.runner.concurrency import ConcurrencyController
from pinecart.runner.pool import Pool
from pinecart.runner.ranges import in_ranges
from pinecart.runner.side import Side


def recorded(
    source: Any, target: Any, leg: dict[str, Any], *, known: Any = None, stalls: bool = False
) -> tuple[float, float]:
    """A whole recorded run in this process, over a fresh state folder. Gives CPU and wall time, in
    seconds.

    source, target: specs, or stores.   known: pages of ledger rows; then nothing is to do.
    stalls: it is given up once it gets no further.
    """
    with tempfile.TemporaryDirectory() as own:
        os.environ |= {
            "PINECART_DATA": own,
            "DJANGO_SETTINGS_MODULE": "pinecart.service.config.settings",
        }
        from pinecart.service.config.state import StateFolder

        StateFolder(Path(own)).prepare()
        import django

        django.setup()
        from django.core.management import call_command
        from django.utils import timezone

        from pinecart.core.definition_reading import read_definition
        from pinecart.drivers import open_store
        from pinecart.runner.run import Order, carry_out
        from pinecart.runner.scratch import Scratch
        from pinecart.service.config.process import settle_in
        from pinecart.service.config.rights import SYSTEM
        from pinecart.service.ledger import services as ledger
        from pinecart.service.runs.services import life_cycle, queue
        from pinecart.service.worker.run_desk import RunRecords
        from pinecart.service.worker.run_log import RunLog

        call_command("migrate", verbosity=0)
        definition = read_definition({"job": "bench", "legs": [leg]})
        life_cycle.start_run(SYSTEM, definition, kind="transfer", cause="bench")
        run = queue.claim_next(now=timezone.now(), limit=9)
        assert run is not None
        given = {
            "run": run.pk,
            "epoch": run.epoch,
            "kind": "transfer",
            "of": None,
            "definition": run.definition,
            "awaited_unknown": [],
        }

        async def work(log: Any) -> tuple[Any, float, float]:
            settle_in()
            desk = RunRecords(given, log)
            stores = {
                n: open_store(s) if isinstance(s, dict) else s
                for n, s in (("a", source), ("b", target))
            }
            order = Order(run.pk, "transfer", definition, stores, Scratch(own))
            await asyncio.to_thread(desk.open_scopes, "bench", order)
            if known is not None:
                one = ThreadPoolExecutor(1)  # one connection, as a run has it
                async for rows in known(stores["a"]):
                    scoped = [(desk.scopes[0], row) for row in rows]
                    await asyncio.get_running_loop().run_in_executor(one, ledger.write_rows, scoped)
            began, since = cpu(), time.monotonic()
            if stalls:
                task = asyncio.ensure_future(carry_out(order, desk))
                await asyncio.wait([task], timeout=15)
                assert not task.done()
                return None, cpu() - began, time.monotonic() - since
            ending = await carry_out(order, desk)
            return ending, cpu() - began, time.monotonic() - since

        with closing(RunLog(run.pk, Path(own) / "log.jsonl")) as log:
            ending, used, took = asyncio.run(work(log))
        if ending is not None:
            assert ending.error is None, ending.error
            assert (ending.acted == 0) == (known is not None), (
                "nothing of what was to be measured was done"
            )
            life_cycle.end_run(run.pk, run.epoch, ending)
        return used, took


def engine_put(endpoint: str, path: Path) -> float:
    asyncio.run(make_bucket(endpoint))
    return recorded(folder(path), bucket(endpoint), {"from": "pine://a/", "to": "pine://b/bench/"})[
        0
    ]


def engine_get(endpoint: str, path: Path) -> float:
    from bench.floors import fill

    asyncio.run(fill(endpoint, path))
    with landing(path) as there:
        return recorded(
            bucket(endpoint) | {"name": "a"},
            folder(Path(there)) | {"name": "b"},
            {"from": "pine://a/bench/", "to": "pine://b/"},
        )[0]


def engine_copies(endpoint: str, path: Path) -> float:
    """Inside one store, nothing passes through us."""
    from bench.floors import fill

    asyncio.run(fill(endpoint, path))
    asyncio.run(make_bucket(endpoint, "copies"))
    leg = {"from": "pine://a/bench/", "to": "pine://b/copies/"}
    return recorded(bucket(endpoint) | {"name": "a"}, bucket(endpoint), leg)[0]


class Prepared(MemoryStore):
    """A store of so many objects that lists them in pages made beforehand, or made as they are
    asked for, and takes none.
    """

    def __init__(self, count: int, *, ahead: bool = False) -> None:
        super().__init__("prepared", {})
        self._count = count
        self._pages = [self._page(at) for at in range(0, count, 1000)] if ahead else []

    def _page(self, at: int) -> list[Entry]:
        return [Entry(key_of(n), 0, None, "e") for n in range(at, min(at + 1000, self._count))]

    async def list(
        self, prefix: bytes, *, after: bytes = b"", folders: str = ""
    ) -> AsyncIterator[list[Entry]]:
        for at in range(0, self._count, 1000):
            await asyncio.sleep(0)
            yield self._pages[at // 1000] if self._pages else self._page(at)

    async def put(self, put: Any) -> Any:
        await asyncio.sleep(1e6)

    @asynccontextmanager
    async def open(
        self, key: bytes, expected: Entry | None = None, *, version: str = ""
    ) -> AsyncIterator[Any]:
        self.objects[key] = HeldObject(b"", "e")
        async with super().open(key, expected) as reading:
            yield reading


def key_of(n: int) -> bytes:
    return b"%04d/%07d" % (n // 500, n)


async def known(store: Any) -> AsyncIterator[list[Row]]:
    """Ledger rows of all that a source has, in pages."""
    async for page in store.list(b""):
        yield [Row(e.key, fingerprint(e), "0|e") for e in page]


def engine_plan(endpoint: str, path: Path) -> float:
    """Nothing changed since the run before: a folder, prepared pages, the ledger through the ORM,
    five patterns.
    """
    patterns = [f"nothing-{n}/**" for n in range(5)]
    target = Prepared(sum(len(files) for _, _, files in os.walk(path)), ahead=True)
    leg = {"from": "pine://a/", "to": "pine://b/", "leave_out": patterns}
    return recorded(folder(path), target, leg, known=known)[0]


def memory(count: int, *, stalls: bool) -> float:
    """Peak memory in MiB of a run over so many objects: all unchanged, or all new at a destination
    that stalls.
    """
    source, target = Prepared(count), Prepared(0 if stalls else count)
    recorded(
        source,
        target,
        {"from": "pine://a/", "to": "pine://b/"},
        known=None if stalls else known,
        stalls=stalls,
    )
    return peak()


def first_object(endpoint: str, path: Path) -> float:
    """Seconds from the answer of the API to a start, until the first new object of many has
    arrived.
    """
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
        log = Path(state) / "serve.log"
        with log.open("w") as said:
            serving = subprocess.Popen(
                [*command, "--allow-address", "127.0.0.1"], stdout=said, stderr=said
            )
        try:
            url = "http://127.0.0.1:18905"
            while not (welcome := re.search(r"the password (\S+)", log.read_text())):
                time.sleep(0.1)
            with Client(url) as entrance:
                token = entrance.token_for("admin", welcome[1], token_name="bench")
            with Client(url, token) as cart:
                cart.add_store({"name": "a", "kind": "folder", "path": str(path)})
                cart.add_store({k: v for k, v in bucket(endpoint).items() if k != "allowed"})
                cart.define_job(
                    {"job": "bench", "legs": [{"from": "pine://a/", "to": "pine://b/bench/"}]}
                )
                time.sleep(3)  # a process waits for its order, as it does all day
                before = _told(counts)["counts"].get("put", 0)
                cart.start("bench")
                since = time.monotonic()
                # Two are our questions about checksums and conditions; the third is the first
                # object.
                while _told(counts)["counts"].get("put", 0) < before + 3:
                    time.sleep(0.005)
                return time.monotonic() - since
        finally:
            serving.terminate()
            serving.wait(20)


def huge(endpoint: str, path: Path) -> float:
    """Peak memory in MiB while one object of 6 GiB goes from a folder to a bucket (whose server
    forgets what it is sent), in parts as large as an object of 5 TiB needs them.
    """
    from pinecart.drivers.s3 import writing as s3_writing

    vars(s3_writing)["piece_size"] = lambda size: 525 * MIB
    file = path / "huge"
    with file.open("wb") as out:
        out.truncate(6 << 30)
    server = multiprocessing.get_context("spawn").Process(
        target=_forgetful, args=(18_906,), daemon=True
    )
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
            self.shelf.put(
                asked.bucket, asked.key, b"", upload.headers, "f" * 32 + "-1"
            ).size = size
            del self.shelf.uploads[asked.query["uploadId"]]
            return own._xml("CompleteMultipartUploadResult", own._t("ETag", '"' + "f" * 32 + '-1"'))

    async def work() -> None:
        await own.serve(Forgetful({KEY: own.Account(SECRET)}), port)
        await asyncio.sleep(1e6)

    asyncio.run(work())


def _told(url: str) -> Any:
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


def engine_page(endpoint: str, path: Path) -> float:

    body, began = page_of_1000(), cpu()
    for _ in range(300):
        assert len(parse_page(body, prefix=b"dawn/").entries) == 1000
    return cpu() - began


class Slow:
    """A listing of 500 000 keys in prepared pages, each answer after 50 ms."""

    def __init__(self) -> None:
        self.entries = [Entry(b"%03d/%06d" % (n // 2500, n), 1, None, "e") for n in range(500_000)]
        self.keys = [e.key for e in self.entries]

    async def abilities(self, prefix: bytes) -> Any:

        return Abilities(lists_ranges=True)

    async def list(
        self, prefix: bytes, *, after: bytes = b"", folders: str = ""
    ) -> AsyncIterator[list[Any]]:

        at = bisect.bisect_right(self.keys, after)
        while at < len(self.keys):
            await asyncio.sleep(0.05)
            yield self.entries[at : at + 1000]
            at += 1000

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Any:

        await asyncio.sleep(0.05)
        return Level([b"%03d/" % n for n in range(200)], [])


def listed(cuts: Any) -> float:

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
    """Best fixed number's throughput to what is found by itself: a far side that answers 32 at
    once, each after a while.
    """
    from pinecart.runner.concurrency import ConcurrencyController

    jobs = int(min(20_000, 100 / seconds))

    async def took(width: ConcurrencyController) -> float:
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

    def fixed(n: int) -> ConcurrencyController:
        return ConcurrencyController(lambda: n, n)

    best = min(asyncio.run(took(fixed(n))) for n in (8, 16, 32, 64))
    return asyncio.run(took(ConcurrencyController(lambda: 64))) / best


def memory_unchanged(count: int) -> float:
    return memory(count, stalls=False)


def memory_stalled(count: int) -> float:
    return memory(count, stalls=True)


def engine_copy_unread(endpoint: str, path: Path) -> float:
    return engine_copy(endpoint, path, "no")


def list_known(endpoint: str, path: Path) -> float:
    return listed("known")


def list_none_known(endpoint: str, path: Path) -> float:
    return listed("none")


def list_one(endpoint: str, path: Path) -> float:
    return listed(None)


def width_5(endpoint: str, path: Path) -> float:
    return width_figure(0.005)


def width_50(endpoint: str, path: Path) -> float:
    return width_figure(0.05)


def width_200(endpoint: str, path: Path) -> float:
    return width_figure(0.2)
