"""What a run writes down of each object, and the batches in which it is saved."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable
from typing import NamedTuple

from pinecart.core.entries import Row


class Record(NamedTuple):
    """One object acted on, refused or recognised (or one finding of an audit: then `reason` is the
    finding).

    done: the decision was carried out; only then does it count in the totals.   seconds: of the
    last try. error: a code, with its `message`; empty if all went well.   row: what the ledger
    shall remember; None: nothing new. kept: fingerprint of what was set aside of it.   seen: of a
    preview's decision, the digest of what it was made of.
    """

    leg: int
    key: bytes
    decision: str
    reason: str
    size: int = 0
    done: bool = True
    seconds: float = 0.0
    crc: str = ""
    proof: str = ""
    guarded: bool = True
    tries: int = 0
    error: str = ""
    message: str = ""
    row: Row | None = None
    kept: str = ""
    seen: int | None = None

    @property
    def is_folder(self) -> bool:
        return self.key.endswith(b"/") and not self.size and not self.error


class BatchRules(NamedTuple):
    """A batch is saved at `rows` rows, `seconds` after its first, or `size` bytes carried,
    whichever is first.
    """

    rows: int = 1000
    seconds: float = 1.0
    size: int = 256 << 20


class RecordsLost(Exception):
    """What was done can't be written down any longer: the run ends as it stands, before anything
    more is done. Its next process finds by looking what this one did.
    """


class Recorder:
    """Collects records and saves them in batches through `save`, one batch at a time, in order.

    What could not be saved stays. While one batch is saved, the next one fills: else each record
    that comes meanwhile would ask for a batch of its own.
    """

    def __init__(self, save: Callable[[list[Record]], Awaitable[None]], rules: BatchRules) -> None:
        """save: writes many at once; what it raises goes to whoever asked for that.   rules:
        how many, how large, and how long they may wait.
        """
        self._save = save
        self._rules = rules
        self._waiting: list[Record] = []
        self._being_saved = 0
        self._bytes = 0
        self._since = 0.0
        self._one = asyncio.Lock()

    async def add(self, record: Record) -> None:
        if self.take(record):
            await self.flush()

    def take(self, record: Record) -> bool:
        """Whether it is time to flush now."""
        if not self._waiting:
            self._since = time.monotonic()
        self._waiting.append(record)
        self._bytes += record.size if record.done else 0
        rows = len(self._waiting) - self._being_saved
        return rows >= self._rules.rows or self._bytes >= self._rules.size

    async def flush_if_due(self) -> None:
        if self._waiting and time.monotonic() - self._since >= self._rules.seconds:
            await self.flush()

    async def flush(self) -> None:
        async with self._one:
            batch = list(self._waiting)
            if not batch:
                return
            self._bytes = 0
            self._being_saved = len(batch)
            try:
                await self._save(batch)
            finally:
                self._being_saved = 0
            del self._waiting[: len(batch)]
            self._since = time.monotonic()
