"""A store in memory: the contract in its smallest form, for tests and property tests. It behaves
like a bucket.
"""

from __future__ import annotations

import hashlib
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import NamedTuple

from pinecart.core.checksum import crc_of
from pinecart.core.entries import Entry
from pinecart.core.errors import Changed, Corrupt, Missing, Taken
from pinecart.core.keeping import Extra, Keep
from pinecart.core.places import show
from pinecart.core.ports import (
    Abilities,
    Level,
    Placed,
    Put,
    Stat,
    Uploads,
    WriteStamp,
)
from pinecart.json_object import JsonObject

PAGE = 100


class HeldObject(NamedTuple):
    body: bytes
    etag: str
    card: WriteStamp | None = None


class MemoryStore:
    """objects: key → Held; share it to open the same store again."""

    def __init__(self, name: str, objects: dict[bytes, HeldObject]) -> None:
        self.name = name
        self.objects = objects
        self.most_at_once = 0

    def set(self, key: bytes, body: bytes, card: WriteStamp | None = None) -> Entry:
        self.objects[key] = HeldObject(body, hashlib.sha256(body).hexdigest()[:16], card)
        return self._entry(key)

    def _entry(self, key: bytes, skip: int = 0) -> Entry:
        held = self.objects[key]
        return Entry(key[skip:], len(held.body), None, held.etag)

    async def abilities(self, prefix: bytes) -> Abilities:
        return Abilities(checksum="crc64nvme", create_only=True, keeps_metadata=True)

    async def probe(self, prefix: bytes, journal: Uploads | None = None) -> Abilities:
        return await self.abilities(prefix)

    def learned(self) -> JsonObject:
        return {}

    def waits_for(self) -> str:
        return ""

    def unfit(self, key: bytes) -> str:
        return ""

    @property
    def rests_s(self) -> float:
        return 0.0

    def rest(self, seconds: float) -> None: ...

    def identity(self, prefix: bytes) -> str:
        return f"memory:{self.name}/{show(prefix)}"

    async def list(
        self, prefix: bytes, *, after: bytes = b"", folders: str = ""
    ) -> AsyncIterator[list[Entry]]:
        keys = sorted(k for k in self.objects if k.startswith(prefix) and prefix + after < k)
        for i in range(0, len(keys), PAGE):
            yield [self._entry(k, len(prefix)) for k in keys[i : i + PAGE] if k in self.objects]

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Level:
        names = sorted(
            {_first(k[len(prefix) :]) for k in self.objects if k.startswith(prefix) and k != prefix}
        )
        names = [n for n in names if n > after]
        page = names[:limit]
        entries = [self._entry(prefix + n, len(prefix)) for n in page if not n.endswith(b"/")]
        return Level(
            [n for n in page if n.endswith(b"/")], entries, page[-1] if len(names) > limit else b""
        )

    async def stat(self, key: bytes, version: str = "") -> Stat:
        self._must_have(key)
        held = self.objects[key]
        return Stat(self._entry(key), held.card, crc_of(held.body))

    @asynccontextmanager
    async def open(
        self, key: bytes, expected: Entry | None = None, *, version: str = ""
    ) -> AsyncIterator[_Opened]:
        self._must_have(key)
        if expected is not None and expected.etag != self.objects[key].etag:
            raise Changed(f"{show(key)} changed while it was read.")
        yield _Opened(self, key, self._entry(key))

    async def put(self, put: Put) -> Placed:
        body = put.body if isinstance(put.body, bytes) else await put.body.whole()
        if not isinstance(put.body, bytes):
            await put.body.verify(crc_of(body))
        there = self.objects.get(put.key)
        if (put.if_absent and there) or (
            put.expected and (there is None or there.etag != put.expected.etag)
        ):
            raise Taken(f"{show(put.key)} is not as planned.")
        if put.card.crc and crc_of(body) != put.card.crc:
            raise Corrupt(f"{show(put.key)}: the bytes did not arrive as they were sent.")
        return Placed(self.set(put.key, body, put.card), "server-verified", crc=crc_of(body))

    def home(self, prefix: bytes) -> bytes:
        return prefix[: prefix.find(b"/") + 1]

    async def is_absent(self, key: bytes) -> bool:
        return key not in self.objects

    async def remove(self, key: bytes, expected: Entry) -> bool:
        self._must_have(key)
        if self.objects[key].etag != expected.etag:
            raise Taken(f"{show(key)} is not as planned.")
        del self.objects[key]
        return True

    async def check_place(self, prefix: bytes) -> None:
        """Always there."""

    async def close(self) -> None:
        """Nothing is open."""

    def _must_have(self, key: bytes) -> None:
        if key not in self.objects:
            raise Missing(f"{self.name}/{show(key)}: there is no such file.")


class _Opened:
    def __init__(self, store: MemoryStore, key: bytes, entry: Entry) -> None:
        self._store, self._key, self.entry = store, key, entry
        self.card = store.objects[key].card
        self.content_type, self.metadata, self.headers = "", dict[str, str](), dict[str, str]()

    async def whole(self) -> bytes:
        return self._store.objects[self._key].body

    async def piece(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        return (await self.whole())[start : start + size]

    async def chunks(self) -> AsyncIterator[bytes]:
        body = await self.whole()
        for i in range(0, max(len(body), 1), 1000):
            yield body[i : i + 1000]

    async def besides(self, keep: Keep) -> Extra:
        return Extra()

    async def look(self) -> None: ...

    async def verify(self, crc: str = "") -> None:
        held = self._store.objects.get(self._key)
        if held is None or held.etag != self.entry.etag:
            raise Changed(f"{show(self._key)} changed while it was read.")


def _first(key: bytes) -> bytes:
    head, slash, _ = key.partition(b"/")
    return head + slash
