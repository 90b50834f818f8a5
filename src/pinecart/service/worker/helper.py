"""A helper of a run: carries batches of small files and parts of large ones for the run's process,
over a pipe, and writes nothing down.

It holds the run's lock too, so that nobody takes the run up again before it has gone.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import resource
import signal
import sys
from collections.abc import Awaitable
from concurrent.futures import ThreadPoolExecutor
from typing import IO

from pinecart.core.batch import Batch, BatchAnswer, Parts
from pinecart.core.definition_reading import read_definition
from pinecart.core.ports import RenewsKey, Store
from pinecart.core.retry import Retry
from pinecart.drivers import open_store
from pinecart.json_object import JsonObject
from pinecart.runner.batch_helper import BatchHelper
from pinecart.service.config.process import end_with_parent, settle_in

with contextlib.suppress(ImportError):
    import uvloop

    asyncio.set_event_loop_policy(uvloop.EventLoopPolicy())


async def _work(order: JsonObject, out: IO[bytes]) -> None:
    """One line in: {"batch"}, {"parts"}, {"recall"}, {"stores"} (new keys), {"rest"} (a store asked
    for a pause) or {"end"}. One line out for each batch.
    """
    settle_in()
    loop = asyncio.get_running_loop()
    lines = asyncio.Queue[bytes]()
    speaker = ThreadPoolExecutor(1)
    stores: dict[str, Store] = {name: open_store(spec) for name, spec in order["stores"].items()}
    helping = BatchHelper(
        order["run"],
        order["epoch"],
        read_definition(order["definition"]),
        stores,
        lambda: order["most_at_once"],
        Retry(for_s=order["retry_s"]),
    )

    def say(text: str) -> None:
        out.write(text.encode() + b"\n")
        out.flush()

    async def answer_with(work: Awaitable[BatchAnswer]) -> None:
        answer = await work
        await loop.run_in_executor(speaker, say, answer.text())

    end_with_parent(lambda line: loop.call_soon_threadsafe(lines.put_nowait, line))
    async with helping.pool, asyncio.TaskGroup() as batches:
        await loop.run_in_executor(speaker, say, "ready")
        while "end" not in (told := json.loads(await lines.get())):
            if "batch" in told:
                batches.create_task(answer_with(helping.take(Batch.read(told["batch"]))))
            if "parts" in told:
                batches.create_task(answer_with(helping.send(Parts.read(told["parts"]))))
            for name, spec in told.get("stores", {}).items():
                store = stores.get(name)
                if isinstance(store, RenewsKey):
                    store.renew(spec)
            for name, seconds in told.get("rest", {}).items():
                stores[name].rest(seconds)
            if "recall" in told:
                helping.recall()
        helping.recall()
    for store in stores.values():
        await store.close()


def main() -> None:
    """One order on the first line, then a batch on each; it ends with its run, however that
    ends.
    """
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    out = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # what anything else prints is no answer
    line = sys.stdin.buffer.readline()
    if line:
        asyncio.run(_work(json.loads(line), out))


if __name__ == "__main__":
    main()
