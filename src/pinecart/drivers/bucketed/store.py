"""A store of buckets and objects, whatever the protocol: each part of the work has a class of its
own; this one puts them together.
"""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import asynccontextmanager
from typing import Any, NamedTuple, Protocol

from pinecart.core.entries import Entry
from pinecart.core.errors import Refused
from pinecart.core.places import show
from pinecart.core.ports import Abilities, Level, Placed, Put, Stat, Store, Uploads, Version
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import BucketClient
from pinecart.drivers.bucketed.probing import PROBE, ObjectProber
from pinecart.drivers.bucketed.reading import OpenedObject
from pinecart.drivers.bucketed.writing import ObjectWriter
from pinecart.json_object import JsonObject


class Lists(Protocol):
    async def is_empty(self, bucket: str) -> bool:
        """Raises Missing where there is no such bucket."""
        ...

    async def has(self, bucket: str, name: bytes) -> bool:
        """Whether a listing of just this name tells of it."""
        ...

    def pages(
        self, prefix: bytes, *, after: bytes = b"", folders: str = ""
    ) -> AsyncIterator[list[Entry]]: ...

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Level: ...

    async def keeps_versions(self, key: bytes) -> bool: ...

    async def versions(self, key: bytes) -> Sequence[Version]: ...


class Removes(Protocol):
    async def remove(self, key: bytes, expected: Entry) -> bool: ...


class ClearsParts(Protocol):
    async def clear(self, key: bytes, since: str) -> int: ...


class CopiesThere(Protocol):
    async def copy(
        self, put: Put, source: Any, source_key: bytes, entry: Entry, version: str = ""
    ) -> Placed | None: ...


class KeepsBuckets(Protocol):
    async def make(self, name: str) -> bool: ...

    async def drop(self, name: str) -> None:
        """Seen to be empty."""
        ...


class Machines(NamedTuple):
    """What does the work of one kind of store."""

    lister: Lists
    writer: ObjectWriter
    parts: ClearsParts
    server_copy: CopiesThere
    remover: Removes
    prober: ObjectProber
    buckets: KeepsBuckets


class BucketStore:
    """One endpoint, reached with one set of credentials. kind: the first word of an identity."""

    kind = ""

    def __init__(self, client: BucketClient, facts: BucketFacts, machines: Machines) -> None:
        self.name = client.name
        self.client = client
        self._facts = facts
        self._machines = machines

    async def close(self) -> None:
        await self.client.close()

    # --- what it is, and can do

    @property
    def most_at_once(self) -> int:
        return self.client.most_at_once

    @most_at_once.setter
    def most_at_once(self, most: int) -> None:
        self.client.most_at_once = most

    @property
    def rests_s(self) -> float:
        return self.client.rests_s

    def rest(self, seconds: float) -> None:
        self.client.rest(seconds)

    @property
    def requests_sent(self) -> int:
        return self.client.requests_sent

    def waits_for(self) -> str:
        return self.client.waits_for()

    def unfit(self, key: bytes) -> str:
        return self.client.unfit(key)

    def renew(self, spec: Mapping[str, Any]) -> None:
        self.client.renew(spec)

    def identity(self, prefix: bytes) -> str:
        return f"{self.kind}:{self.client.origin}/{show(self.client.root + prefix)}"

    def home(self, prefix: bytes) -> bytes:
        if self.client.root:
            return b""
        return prefix[: prefix.find(b"/") + 1]

    async def abilities(self, prefix: bytes) -> Abilities:
        bucket = (self.client.root + prefix).partition(b"/")[0]
        return self._facts.able(bucket.decode("utf-8", "replace"))

    async def probe(self, prefix: bytes, journal: Uploads | None = None) -> Abilities:
        return await self._machines.prober.probe(prefix, journal)

    def learned(self) -> JsonObject:
        return self._facts.as_mapping()

    async def clock_difference_s(self) -> float | None:
        """Seconds between our clock and the last answer's Date; None if there was none."""
        told = self.client.last_date
        if told is None:
            return None
        return (self.client.now() - told).total_seconds()

    # --- looking

    async def check_place(self, prefix: bytes) -> None:
        """A place lies in a bucket, which can be listed. Raises Refused where none is named, and
        what the store says of another.
        """
        bucket, _ = self.client.split(prefix)
        if not bucket:
            message = f"pine://{self.name}/: name a bucket: the first part of the path."
            raise Refused(message, code="store.no-bucket-named")
        await self._machines.lister.is_empty(bucket)

    def list(
        self, prefix: bytes, *, after: bytes = b"", folders: str = ""
    ) -> AsyncIterator[list[Entry]]:
        return self._machines.lister.pages(prefix, after=after, folders=folders)

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Level:
        return await self._machines.lister.level(prefix, after=after, limit=limit)

    async def stat(self, key: bytes, version: str = "") -> Stat:
        return await self.client.stat(key, version)

    async def is_absent(self, key: bytes) -> bool:
        """A look alone can't tell a missing key from a missing bucket everywhere: the listing has
        to agree.
        """
        if not await self.client.is_absent(key):
            return False
        return not await self._machines.lister.has(*self.client.split(key))

    async def keeps_versions(self, key: bytes) -> bool:
        return await self._machines.lister.keeps_versions(key)

    async def versions(self, key: bytes) -> Sequence[Version]:
        return await self._machines.lister.versions(key)

    def open(
        self, key: bytes, expected: Entry | None = None, *, version: str = ""
    ) -> contextlib.AbstractAsyncContextManager[OpenedObject]:
        """What is expected is known already, mostly, and nothing is asked before its bytes are;
        else it is looked at first.
        """
        if expected is None:
            return self._looked_up(key, version)
        return contextlib.nullcontext(OpenedObject(self.client, key, expected, version))

    @asynccontextmanager
    async def _looked_up(self, key: bytes, version: str) -> AsyncIterator[OpenedObject]:
        entry = (await self.stat(key, version)).entry
        yield OpenedObject(self.client, key, entry, version)

    # --- writing and removing

    async def put(self, put: Put) -> Placed:
        return await self._machines.writer.put(put)

    async def put_part(self, key: bytes, upload: str, number: int, body: bytes) -> tuple[str, str]:
        return await self._machines.writer.put_part(key, upload, number, body)

    async def clear_uploads(self, key: bytes, since: str) -> int:
        """A probe of ours that was journalled like an upload is taken away."""
        if PROBE in key:
            await self.remove_probe(key)
            return 1
        return await self._machines.parts.clear(key, since)

    def copies_from(self, source: Store) -> bool:
        """One endpoint, and the same credentials for both sides."""
        return isinstance(source, type(self)) and source.client.system == self.client.system

    async def copy(
        self, put: Put, source: Store, source_key: bytes, entry: Entry, version: str = ""
    ) -> Placed | None:
        """None: the other store is of another account or kind, or lets this one not read there.
        Then its bytes go through us.
        """
        if not isinstance(source, type(self)) or not self.copies_from(source):
            return None
        copy = self._machines.server_copy.copy
        return await copy(put, source.client, source_key, entry, version)

    async def remove(self, key: bytes, expected: Entry) -> bool:
        return await self._machines.remover.remove(key, expected)

    async def remove_probe(self, key: bytes) -> None:
        await self._machines.prober.take_away(key)

    # --- buckets

    async def make_bucket(self, name: str) -> bool:
        self._must_not_be_confined("made")
        return await self._machines.buckets.make(name)

    async def drop_bucket(self, name: str) -> None:
        """It must be empty, also of versions: the store refuses by itself where something came just
        now. Raises Refused.
        """
        self._must_not_be_confined("dropped")
        if not await self._machines.lister.is_empty(name):
            where = f"Bucket {name!r} at {self.name}"
            message = f"{where} is not empty. Only an empty one is dropped."
            raise Refused(message, code="bucket.not-empty")
        await self._machines.buckets.drop(name)

    def _must_not_be_confined(self, what: str) -> None:
        if self.client.root:
            place = f"{self.name} is confined to {show(self.client.root)}"
            raise Refused(f"{place}: no buckets are {what} there.", code="bucket.confined")
