"""Carries one object from its source to its place, and proves it.

What may go wrong on the way, and what is done: a busy or cut line is tried again with growing waits; after a lost
answer the far side is asked first, and a twin (same decision id) is taken as our own write; a source that changes
while it is read is found before the write becomes visible, tried three times, then listed.
"""

from __future__ import annotations

import asyncio
import hashlib
import mimetypes
import random
import time
from collections.abc import AsyncIterator
from typing import NamedTuple

from pinecart.core.checksum import Crc64, crc_of
from pinecart.core.entries import Entry, Row, fingerprint, is_racy
from pinecart.core.errors import Busy, Changed, Missing, StoreError, Taken
from pinecart.core.places import show
from pinecart.core.ports import HELD_BYTES, Card, Placed, Put, Reading, Store
from pinecart.core.retry import Retry

CHANGING_TRIES = 3


class Side(NamedTuple):
    """A store and the prefix of the leg in it."""

    store: Store
    prefix: bytes


class Carried(NamedTuple):
    placed: Placed
    row: Row
    size: int
    tries: int


class Carrier:
    """Carries objects of one leg. `on_bytes` is told of bytes as they pass."""

    def __init__(self, run: int, leg: int, source: Side, target: Side, retry: Retry) -> None:
        self._run, self._leg, self._source, self._target, self._retry = run, leg, source, target, retry
        self._probed = asyncio.Lock()
        self._ready = False

    async def carry(self, key: bytes, entry: Entry, replaces: Entry | None) -> Carried:
        """Raises StoreError (with `tries` among its facts) when it can't be done."""
        await self._probe_once()
        tried, expected = 0, entry
        while True:
            tried += 1
            try:
                return await self._attempt(key, expected, replaces, tried)
            except Missing as exc:
                raise Missing(
                    f"{exc.message} It went away before it was copied.", code="gone-meanwhile", tries=tried
                ) from exc
            except StoreError as exc:
                limit = CHANGING_TRIES if isinstance(exc, Changed) else self._retry.times
                if not exc.retry or tried >= limit:
                    exc.facts["tries"] = tried
                    raise
                if isinstance(exc, Changed):
                    expected = (await self._source.store.stat(self._source.prefix + key)).entry._replace(key=key)
                await asyncio.sleep(
                    self._retry.wait_s(tried, exc.wait_s if isinstance(exc, Busy) else None, random.random)
                )

    async def _probe_once(self) -> None:
        async with self._probed:
            if not self._ready:
                await self._target.store.probe(self._target.prefix)
                self._ready = True

    async def _attempt(self, key: bytes, entry: Entry, replaces: Entry | None, tried: int) -> Carried:
        source_key = self._source.prefix + key
        async with self._source.store.open(source_key, entry) as reading:
            now = reading.entry._replace(key=key)
            mark = decision_id(self._run, self._leg, now)
            if tried > 1 and (twin := await self._twin(key, mark, now.size)):
                return Carried(twin, self._row(now, twin, (await self._card(key)).crc), now.size, tried)
            put = await self._prepare(key, reading, mark, replaces)
            try:
                placed = await self._target.store.put(put)
            except Taken:
                twin = await self._twin(key, mark, now.size)
                if twin is None:
                    raise
                placed = twin
            return Carried(placed, self._row(now, placed, put.card.crc), now.size, tried)

    def _row(self, entry: Entry, placed: Placed, crc: str) -> Row:
        racy = is_racy(entry, time.time_ns())
        return Row(entry.key, fingerprint(entry), fingerprint(placed.entry), crc, racy, run=self._run)

    async def _prepare(self, key: bytes, reading: Reading, mark: str, replaces: Entry | None) -> Put:
        size, sha = reading.entry.size, ""
        body: object
        if size <= HELD_BYTES:
            body = await reading.whole()
            if len(body) != size:
                raise Changed(f"{show(key)}: {size} bytes were listed, {len(body)} were read.")
            crc = crc_of(body)
        else:
            crc, sha = await self._read_through(reading)
            body = lambda: _until_verified(reading)  # noqa: E731
        time_ns = reading.card.modified_ns if reading.card and reading.card.crc == crc else reading.entry.modified_ns
        return Put(
            self._target.prefix + key, size, body,
            Card(mark, time_ns, crc), if_absent=replaces is None, expected=replaces,
            content_type=mimetypes.guess_type(key.decode("utf-8", "replace"))[0] or "application/octet-stream", sha256_hex=sha,
        )  # fmt: skip

    async def _read_through(self, reading: Reading) -> tuple[str, str]:
        """A large object is read twice: once for its checksums, which must go before it, once to send it."""
        signs = (await self._target.store.abilities(self._target.prefix)).signs_payload
        crc, sha = Crc64(), hashlib.sha256()
        async for chunk in reading.chunks():
            crc.add(chunk)
            if signs:
                sha.update(chunk)
        await reading.verify()
        return crc.text, sha.hexdigest() if signs else ""

    async def _twin(self, key: bytes, mark: str, size: int) -> Placed | None:
        """What lies there, if it is our own write of this very decision, whose answer was lost."""
        try:
            stat = await self._target.store.stat(self._target.prefix + key)
        except StoreError:
            return None
        if stat.card is None or stat.card.decision_id != mark or stat.entry.size != size:
            return None
        verified = (await self._target.store.abilities(self._target.prefix)).checksum
        return Placed(stat.entry, "server-verified" if verified else "size-only")

    async def _card(self, key: bytes) -> Card:
        card = (await self._target.store.stat(self._target.prefix + key)).card
        assert card is not None
        return card


def decision_id(run: int, leg: int, entry: Entry) -> str:
    """The same for the same decision, in whatever process it is carried out."""
    text = b"|".join([str(run).encode(), str(leg).encode(), entry.key, fingerprint(entry).encode()])
    return hashlib.sha256(text).hexdigest()[:32]


async def _until_verified(reading: Reading) -> AsyncIterator[bytes]:
    """The content, its last piece held back until the source is known to be unchanged."""
    held: bytes | None = None
    async for chunk in reading.chunks():
        if held is not None:
            yield held
        held = chunk
    await reading.verify()
    if held is not None:
        yield held
