"""The database, asked from the event loop: one thread that reads, and one that writes, each with a
connection of its own.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import ParamSpec, TypeVar

from django.db.utils import OperationalError

from pinecart.runner.records import RecordsLost
from pinecart.service.config.settings import OPTIONS

AGAIN_S = 1.0  # after the database could not be used
T = TypeVar("T")
P = ParamSpec("P")
# One connection each: opening one costs more than a query.
_READS, _WRITES = ThreadPoolExecutor(1), ThreadPoolExecutor(1)


async def reads(call: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    return await _patiently(_READS, partial(call, *args, **kwargs))


async def writes(call: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    return await _patiently(_WRITES, partial(call, *args, **kwargs))


async def _patiently(thread: ThreadPoolExecutor, call: Callable[[], T]) -> T:
    """The database may be locked, or its disk full, for a while.

    Raises RecordsLost if it stays so for minutes.
    """
    deadline = time.monotonic() + OPTIONS.records_s
    while True:
        try:
            return await asyncio.get_running_loop().run_in_executor(thread, call)
        except OperationalError as exc:
            if time.monotonic() > deadline:
                raise RecordsLost(
                    f"The records could not be read or written for {OPTIONS.records_s:.0f} s: {exc}"
                ) from exc
        await asyncio.sleep(AGAIN_S)
