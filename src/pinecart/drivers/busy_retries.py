"""Repeating what changes nothing, or what may be done twice, while the other side is busy."""

from __future__ import annotations

import asyncio
import random
import time
from collections.abc import Awaitable, Callable
from typing import TypeVar

from pinecart.core.errors import Busy, Corrupt
from pinecart.core.retry import Retry

T = TypeVar("T")


class BusyRetries:
    """Of one store.   failed: why something is tried again just now; empty: nothing is."""

    def __init__(self, retry: Retry = Retry()) -> None:
        self.retry = retry
        self.failed = ""

    def waits_for(self, name: str) -> str:
        """In words; empty: nothing is tried for long."""
        if self.failed and self.retry.for_s:
            return f"{name} is tried again: {self.failed}"
        return ""

    async def once(self, call: Callable[[], Awaitable[T]]) -> T:
        """What somebody else tries again."""
        try:
            found = await call()
        except Busy as exc:
            self.failed = exc.message
            raise
        self.failed = ""
        return found

    async def safely(self, call: Callable[[], Awaitable[T]], *, corrupted_too: bool = False) -> T:
        """With growing waits while the other side is busy; some times, if that is wanted, where it
        says that its bytes did not arrive as they were sent.
        """
        began = time.monotonic()
        tried = 0
        while True:
            tried += 1
            try:
                found = await call()
                self.failed = ""
                return found
            except Corrupt as exc:
                if not corrupted_too or tried >= self.retry.times:
                    raise
                self.failed = exc.message
            except Busy as exc:
                self.failed = exc.message
                if self.retry.is_over(tried, time.monotonic() - began):
                    raise
                await asyncio.sleep(self.retry.wait_s(tried, exc.wait_s, random.random))
