"""What a bucket can do, found out by small objects of our own, which are taken away again."""

from __future__ import annotations

import asyncio
import secrets
from abc import ABC, abstractmethod
from collections.abc import Awaitable, Callable
from typing import TypeVar

from pinecart.core.errors import Halting, Refused, Unsafe
from pinecart.core.places import show
from pinecart.core.ports import OF_A_PROBE, Abilities, Uploads
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import BucketClient

PROBE = b".pinecart-probe-"
T = TypeVar("T")


class ObjectProber(ABC):
    """Asks once for each bucket."""

    def __init__(self, client: BucketClient, facts: BucketFacts) -> None:
        self._any_client = client
        self._facts = facts
        self._one_at_a_time = asyncio.Lock()
        self._may_delete = True
        self._may_be_late = False  # what was written may come once more, after it was taken away

    async def probe(self, prefix: bytes, journal: Uploads | None = None) -> Abilities:
        client = self._any_client
        bucket, _ = client.split(prefix)
        async with self._one_at_a_time:
            if bucket not in self._facts.probed:
                key = prefix + PROBE + secrets.token_hex(8).encode()
                await self._journalled(key, journal, self.find_out)
                self._facts.probed.add(bucket)
        return self._facts.able(bucket)

    async def ask_once(
        self,
        known: dict[str, bool],
        beside: bytes,
        journal: Uploads | None,
        ask: Callable[[bytes], Awaitable[bool]],
        *,
        ending: bytes = b"",
    ) -> bool:
        """What is known of a bucket, else what `ask` finds out by a name of ours (which ends so)
        beside what is written there.

        journal: of what a killed run has to take away.
        """
        bucket, _ = self._any_client.split(beside)
        async with self._one_at_a_time:
            if bucket not in known:
                folder = beside[: beside.rfind(b"/") + 1]
                key = folder + PROBE + secrets.token_hex(8).encode() + ending
                known[bucket] = await self._journalled(key, journal, ask)
        return known[bucket]

    async def _journalled(
        self, key: bytes, journal: Uploads | None, ask: Callable[[bytes], Awaitable[T]]
    ) -> T:
        """The journal knows of the probe as long as anything may be left under its name, which
        is to the run's end where an answer may be late.
        """
        if journal:
            await journal.begun(key, OF_A_PROBE, self._any_client.journal_date())
        self._may_be_late = False
        found = await ask(key)
        if journal and self._may_delete and not self._may_be_late:
            await journal.over(key)
        return found

    @abstractmethod
    async def find_out(self, key: bytes) -> None:
        """By writing there; what is stored is taken away."""

    async def take_away(self, key: bytes) -> None:
        """Take away a small object of our own, with all versions of it. Nothing else is ever
        deleted here. Raises StoreError.
        """
        if PROBE not in key:
            raise Unsafe(f"{show(key)} is not a probe of ours.")
        await self.delete(key)

    async def take_away_if_allowed(self, key: bytes) -> None:
        """Who may write need not be allowed to delete: then it stays, and is journalled."""
        try:
            await self.take_away(key)
        except Halting:
            raise
        except Refused:
            self._may_delete = False

    @abstractmethod
    async def delete(self, key: bytes) -> None: ...
