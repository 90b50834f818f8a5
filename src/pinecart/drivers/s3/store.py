"""S3-compatible object stores, whatever the maker: signs, lists, reads and writes by itself, one
request an object. Each part of the work has a class of its own; this one puts them together.
"""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import asynccontextmanager
from typing import Any

from pinecart.core.entries import Entry
from pinecart.core.errors import Refused
from pinecart.core.places import show
from pinecart.core.ports import Abilities, Level, Placed, Put, Stat, Store, Uploads, Version
from pinecart.drivers.s3.bucket_facts import BucketFacts
from pinecart.drivers.s3.buckets import BucketKeeper
from pinecart.drivers.s3.client import S3Client, client_from
from pinecart.drivers.s3.conditional import ConditionalWrites
from pinecart.drivers.s3.listing import Lister
from pinecart.drivers.s3.probing import PROBE, Prober
from pinecart.drivers.s3.reading import OpenedObject
from pinecart.drivers.s3.removal import ObjectRemover
from pinecart.drivers.s3.server_copy import ServerCopy
from pinecart.drivers.s3.sizes import Sizes
from pinecart.drivers.s3.writing import ObjectWriter
from pinecart.json_object import JsonObject


class S3Store:
    """One endpoint, reached with one key."""

    def __init__(self, client: S3Client, facts: BucketFacts, sizes: Sizes = Sizes()) -> None:
        self.name = client.name
        self._client, self._facts = client, facts
        self._lister = Lister(client, facts)
        writes = ConditionalWrites(client, facts)
        self._writer = ObjectWriter(client, facts, writes, sizes)
        self._server_copy = ServerCopy(client, facts, writes, sizes)
        self._remover = ObjectRemover(client, facts, writes, self._lister)
        self._prober = Prober(client, facts, self._lister)
        self._buckets = BucketKeeper(client, self._lister)

    @classmethod
    def from_spec(cls, spec: Mapping[str, Any]) -> S3Store:
        facts = BucketFacts()
        learned = spec.get("abilities") or {}
        for bucket, told in learned.items():
            facts.remember(bucket, told)
        return cls(client_from(spec), facts)

    async def close(self) -> None:
        await self._client.close()

    # --- what it is, and can do

    @property
    def most_at_once(self) -> int:
        return self._client.most_at_once

    @most_at_once.setter
    def most_at_once(self, most: int) -> None:
        self._client.most_at_once = most

    @property
    def rests_s(self) -> float:
        return self._client.rests_s

    def rest(self, seconds: float) -> None:
        self._client.rest(seconds)

    @property
    def requests_sent(self) -> int:
        return self._client.requests_sent

    def waits_for(self) -> str:
        return self._client.waits_for()

    def unfit(self, key: bytes) -> str:
        return self._client.unfit(key)

    def renew(self, spec: Mapping[str, Any]) -> None:
        self._client.renew(spec)

    def identity(self, prefix: bytes) -> str:
        return f"s3:{self._client.origin}/{show(self._client.root + prefix)}"

    def home(self, prefix: bytes) -> bytes:
        return b"" if self._client.root else prefix[: prefix.find(b"/") + 1]

    async def abilities(self, prefix: bytes) -> Abilities:
        bucket = (self._client.root + prefix).partition(b"/")[0]
        return self._facts.able(bucket.decode("utf-8", "replace"))

    async def probe(self, prefix: bytes, journal: Uploads | None = None) -> Abilities:
        return await self._prober.probe(prefix, journal)

    def learned(self) -> JsonObject:
        return self._facts.as_mapping()

    async def clock_difference_s(self) -> float | None:
        """Seconds between our clock and the last answer's Date; None if there was none."""
        told = self._client.last_date
        return None if told is None else (self._client.now() - told).total_seconds()

    # --- looking

    async def check_place(self, prefix: bytes) -> None:
        bucket, _ = self._client.split(prefix)
        if not bucket:
            message = f"pine://{self.name}/: name a bucket: the first part of the path."
            raise Refused(message, code="store.no-bucket-named")
        await self._lister.page(bucket, b"", [("max-keys", "1")])

    def list(
        self, prefix: bytes, *, after: bytes = b"", folders: str = ""
    ) -> AsyncIterator[list[Entry]]:
        return self._lister.pages(prefix, after=after, folders=folders)

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Level:
        return await self._lister.level(prefix, after=after, limit=limit)

    async def stat(self, key: bytes, version: str = "") -> Stat:
        return await self._client.stat(key, version)

    async def is_absent(self, key: bytes) -> bool:
        return await self._remover.is_absent(key)

    async def keeps_versions(self, key: bytes) -> bool:
        return await self._lister.keeps_versions(key)

    async def versions(self, key: bytes) -> Sequence[Version]:
        return await self._lister.versions(key)

    def open(
        self, key: bytes, expected: Entry | None = None, *, version: str = ""
    ) -> contextlib.AbstractAsyncContextManager[OpenedObject]:
        if expected is None:
            return self._looked_up(key, version)
        return contextlib.nullcontext(OpenedObject(self._client, key, expected, version))

    @asynccontextmanager
    async def _looked_up(self, key: bytes, version: str) -> AsyncIterator[OpenedObject]:
        entry = (await self.stat(key, version)).entry
        yield OpenedObject(self._client, key, entry, version)

    # --- writing and removing

    async def put(self, put: Put) -> Placed:
        return await self._writer.put(put)

    async def put_part(self, key: bytes, upload: str, number: int, body: bytes) -> tuple[str, str]:
        return await self._writer.put_part(key, upload, number, body)

    async def clear_uploads(self, key: bytes, since: str) -> int:
        """A probe of ours that was journalled like an upload is taken away."""
        if PROBE in key:
            await self._prober.take_away(key)
            return 1
        return await self._writer.clear_uploads(key, since)

    def copies_from(self, source: Store) -> bool:
        """One endpoint, and one key for both sides."""
        return isinstance(source, S3Store) and source._client.system == self._client.system

    async def copy(
        self, put: Put, source: Store, source_key: bytes, entry: Entry, version: str = ""
    ) -> Placed | None:
        if not isinstance(source, S3Store) or not self.copies_from(source):
            return None
        return await self._server_copy.copy(put, source._client, source_key, entry, version)

    async def remove(self, key: bytes, expected: Entry) -> bool:
        return await self._remover.remove(key, expected)

    async def remove_probe(self, key: bytes) -> None:
        await self._prober.take_away(key)

    # --- buckets

    async def make_bucket(self, name: str) -> bool:
        return await self._buckets.make(name)

    async def drop_bucket(self, name: str) -> None:
        await self._buckets.drop(name)
