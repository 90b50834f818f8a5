"""What lies in blob storage: listings, levels, versions."""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator, Sequence
from functools import partial

from pinecart.core.entries import Entry
from pinecart.core.errors import Missing
from pinecart.core.ports import Level, Version
from pinecart.drivers.blob.client import BlobClient
from pinecart.drivers.blob.wire import (
    BlobPage,
    parse_containers,
    parse_page,
    parse_versions,
)
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import Query
from pinecart.drivers.bucketed.sorting import in_order
from pinecart.drivers.paging import each_page

CONTAINERS: Query = [("comp", "list")]
LIST: Query = [("restype", "container"), ("comp", "list")]


class BlobLister:
    """Looks at names, and never changes anything."""

    def __init__(self, client: BlobClient, facts: BucketFacts) -> None:
        self._client = client
        self._facts = facts

    async def page(self, bucket: str, prefix: bytes, query: Query) -> BlobPage:
        client = self._client
        full: Query = [*LIST, *query]
        if prefix:
            full.append(("prefix", prefix))
        what = f"Listing {client.name}/{bucket}"

        async def one() -> BlobPage:
            answer = await client.good("GET", bucket, query=full, what=what)
            return parse_page(answer.body, prefix=prefix)

        return await client.safely(one)

    async def is_empty(self, bucket: str) -> bool:
        page = await self.page(bucket, b"", [("maxresults", "1")])
        return not (page.entries or page.folders or page.marker)

    async def has(self, bucket: str, name: bytes) -> bool:
        page = await self.page(bucket, name, [("maxresults", "1")])
        return any(entry.key == b"" for entry in page.entries)

    async def pages(
        self, prefix: bytes, *, after: bytes = b"", folders: str = ""
    ) -> AsyncIterator[list[Entry]]:
        """The storage can't be asked to begin after a key, and promises no order of bytes."""
        async for page in in_order(self._as_they_come(prefix)):
            left = [entry for entry in page if entry.key > after] if after else page
            if left:
                yield left

    async def _as_they_come(self, prefix: bytes) -> AsyncIterator[list[Entry]]:
        """Pages of objects in the service's own order, which isn't always that of bytes; one
        whose name is the place's own is left out.
        """
        bucket, start = self._client.split(prefix)
        async for page in self._each_page(bucket, start, []):
            entries = [entry for entry in page.entries if entry.key]
            if entries:
                yield entries

    def _each_page(self, bucket: str, prefix: bytes, query: Query) -> AsyncIterator[BlobPage]:
        async def one(go_on: Query) -> tuple[BlobPage, Query]:
            page = await self.page(bucket, prefix, [*query, *go_on])
            return page, _following(page.marker)

        return each_page(f"The listing of {self._client.name}/{bucket}", one)

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Level:
        """All of it is read, since no order is promised. Raises StoreError."""
        bucket, start = self._client.split(prefix)
        if not bucket:
            containers = await self._containers()
            folders = [name.encode() + b"/" for name in containers]
            return _part_of(folders, after, limit)
        names = list[bytes]()
        entries = dict[bytes, Entry]()
        async for page in self._each_page(bucket, start, [("delimiter", "/")]):
            names += page.folders
            for entry in page.entries:
                if entry.key:
                    entries[entry.key] = entry
        part = _part_of([*names, *entries], after, limit)
        found = [entries[name] for name in part.folders if name in entries]
        below = [name for name in part.folders if name not in entries]
        return Level(below, found, part.after)

    async def _containers(self) -> list[str]:
        what = f"Listing the containers of {self._client.name}"

        async def page(go_on: Query) -> tuple[list[str], Query]:
            query = [*CONTAINERS, *go_on]
            ask = partial(self._client.good, "GET", "", query=query, what=what)
            answer = await self._client.safely(ask)
            names, marker = parse_containers(answer.body)
            return names, _following(marker)

        return [name async for names in each_page(what, page) for name in names]

    async def keeps_versions(self, key: bytes) -> bool:
        """As the last write there has told. Before the first one: whether what lies there now is a
        version, and so stays one. That says nothing of another blob: a container may have kept
        versions once.
        """
        bucket, name = self._client.split(key)
        if bucket in self._facts.versioned:
            return self._facts.versioned[bucket]
        with contextlib.suppress(Missing):
            if name:
                return bool((await self._client.stat(key)).entry.version)
        one: Query = [("include", "versions"), ("maxresults", "1"), ("prefix", name)]
        ask = partial(self._client.ask, "GET", bucket, query=[*LIST, *one])
        answer = await self._client.safely(ask)
        if answer.status >= 500 and answer.status != 501:
            raise self._client.error_of(answer, what=f"Looking at {self._client.named(key)}")
        return b"<VersionId>" in answer.body

    async def versions(self, key: bytes) -> Sequence[Version]:
        """The newest first; none where the storage knows none. Raises StoreError."""
        client = self._client
        bucket, name = client.split(key)
        query: Query = [*LIST, ("include", "versions"), ("prefix", name)]
        what = f"Listing the versions of {client.named(key)}"

        async def page(go_on: Query) -> tuple[list[Version], Query]:
            ask = partial(client.ask, "GET", bucket, query=[*query, *go_on])
            answer = await client.safely(ask)
            if answer.status in (400, 501) and not go_on:  # knows none
                return [], []
            if answer.status != 200:
                raise client.error_of(answer, what=what)
            some, marker = parse_versions(answer.body, name)
            return some, _following(marker)

        found = [kept async for some in each_page(what, page) for kept in some]
        return sorted(found, key=lambda kept: kept.version, reverse=True)


def _following(marker: str) -> Query:
    """What the page at this marker is asked with; nothing where there is none."""
    if marker:
        return [("marker", marker)]
    return []


def _part_of(names: list[bytes], after: bytes, limit: int) -> Level:
    """The names that follow `after`, as folders."""
    left = sorted(name for name in names if name > after)
    return Level(left[:limit], [], left[limit - 1] if len(left) > limit else b"")
