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
        start = len(prefix)
        first = prefix + after
        below = [key for key in self.objects if key.startswith(prefix)]
        keys = sorted(key for key in below if first < key)
        for i in range(0, len(keys), PAGE):
            page = keys[i : i + PAGE]
            there = [key for key in page if key in self.objects]
            yield [self._entry(key, start) for key in there]

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Level:
        """As every store tells one: folders and files, in their order."""
        start = len(prefix)
        below = [key for key in self.objects if key.startswith(prefix) and key != prefix]
        found = {_first(key[start:]) for key in below}
        following = [name for name in found if name > after]
        following.sort()
        page = following[:limit]
        folders = []
        entries = []
        for name in page:
            if name.endswith(b"/"):
                folders.append(name)
            else:
                entry = self._entry(prefix + name, start)
                entries.append(entry)
        more = page[-1] if len(following) > limit else b""
        return Level(folders, entries, more)

    async def stat(self, key: bytes, version: str = "") -> Stat:
        self._must_have(key)
        held = self.objects[key]
        return Stat(self._entry(key), held.card, crc_of(held.body))

    @asynccontextmanager
    async def open(
        self, key: bytes, expected: Entry | None = None, *, version: str = ""
    ) -> AsyncIterator[_Opened]:
        self._must_have(key)
        now = self.objects[key].etag
        if expected is not None and expected.etag != now:
            raise Changed(f"{show(key)} changed while it was read.")
        yield _Opened(self, key, self._entry(key))

    async def put(self, put: Put) -> Placed:
        if isinstance(put.body, bytes):
            body = put.body
            crc = crc_of(body)
        else:
            body = await put.body.whole()
            crc = crc_of(body)
            await put.body.verify(crc)
        there = self.objects.get(put.key)
        etag = there.etag if there else None
        is_taken = put.if_absent and there
        is_other = put.expected and etag != put.expected.etag
        if is_taken or is_other:
            raise Taken(f"{show(put.key)} is not as planned.")
        if put.card.crc and crc != put.card.crc:
            raise Corrupt(f"{show(put.key)}: the bytes did not arrive as they were sent.")
        entry = self.set(put.key, body, put.card)
        return Placed(entry, "server-verified", crc=crc)

    def home(self, prefix: bytes) -> bytes:
        return prefix[: prefix.find(b"/") + 1]

    async def is_absent(self, key: bytes) -> bool:
        return key not in self.objects

    async def remove(self, key: bytes, expected: Entry) -> bool:
        """Guarded: nothing else runs between the comparison and the removal. Raises Missing, or
        Taken where it is another one.
        """
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
        """entry: as it was opened; what is read is what is there by then."""
        self._store = store
        self._key = key
        self.entry = entry
        self.card = store.objects[key].card
        self.content_type = ""
        self.metadata = dict[str, str]()
        self.headers = dict[str, str]()

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
