"""The database, asked from the event loop: one thread that reads, and one that writes, each with a
connection of its own.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import NamedTuple, ParamSpec, TypeVar

from django.db.utils import OperationalError

from pinecart.runner.records import RecordsLost
from pinecart.service.config.settings import OPTIONS


class Patience(NamedTuple):
    """again_s: so long after the database could not be used it is tried again.   for_s: so long in
    all.
    """

    again_s: float = 1.0
    for_s: float = OPTIONS.records_s


T = TypeVar("T")
P = ParamSpec("P")
# One connection each: opening one costs more than a query.
_READS = ThreadPoolExecutor(1)
_WRITES = ThreadPoolExecutor(1)


async def reads(call: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    return await patiently(_READS, partial(call, *args, **kwargs))


async def writes(call: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    return await patiently(_WRITES, partial(call, *args, **kwargs))


async def patiently(
    thread: ThreadPoolExecutor, call: Callable[[], T], patience: Patience = Patience()
) -> T:
    """The database may be locked, or its disk full, for a while.

    Raises RecordsLost if it stays so for minutes.
    """
    deadline = time.monotonic() + patience.for_s
    while True:
        try:
            return await asyncio.get_running_loop().run_in_executor(thread, call)
        except OperationalError as exc:
            if time.monotonic() > deadline:
                raise RecordsLost(
                    f"The records could not be read or written for {patience.for_s:.0f} s: {exc}"
                ) from exc
        await asyncio.sleep(patience.again_s)
