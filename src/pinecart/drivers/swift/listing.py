"""What lies in a Swift account: listings, levels, versions."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Sequence
from functools import partial

from pinecart.core.entries import Entry
from pinecart.core.errors import Missing, StoreError
from pinecart.core.ports import Level, Version
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import PAST_ALL, Query
from pinecart.drivers.bucketed.wire import number
from pinecart.drivers.paging import in_circles
from pinecart.drivers.pieces import all_of
from pinecart.drivers.swift.client import SwiftClient
from pinecart.drivers.swift.wire import SwiftPage, is_mistold, parse_page, parse_versions, read_rows

LISTED = (200, 204)
LOOKS_AT_ONCE = 8


class SwiftLister:
    """Looks at names, and never changes anything. The store orders them by their bytes."""

    def __init__(self, client: SwiftClient, facts: BucketFacts) -> None:
        self._client = client
        self._facts = facts

    async def page(self, bucket: str, prefix: bytes, query: Query) -> SwiftPage:
        client = self._client
        full: Query = [("format", "json"), *query]
        if prefix:
            full.append(("prefix", prefix))

        async def one() -> SwiftPage:
            """An empty container may be answered without a body. One that isn't there is told by
            its name.
            """
            answer = await client.ask("GET", bucket, query=full)
            if answer.status == 404:
                raise no_bucket(client, bucket)
            if answer.status not in LISTED:
                what = f"Listing {client.name}/{bucket}"
                raise client.error_of(answer, what=what)
            body = bytes(answer.body)
            return parse_page(body, prefix=prefix)

        page = await client.safely(one)
        entries = await self._told_well(bucket, prefix, page.entries)
        return page._replace(entries=entries)

    async def _told_well(self, bucket: str, prefix: bytes, entries: list[Entry]) -> list[Entry]:
        """Large objects that a listing tells wrong are looked at, some at once."""
        wrong = [at for at, entry in enumerate(entries) if is_mistold(entry)]
        found = list(entries)
        at_once = asyncio.Semaphore(LOOKS_AT_ONCE)

        async def look(at: int) -> None:
            async with at_once:
                found[at] = await self._looked_at(bucket, prefix, entries[at])

        await all_of(*map(look, wrong))
        return found

    async def _looked_at(self, bucket: str, prefix: bytes, entry: Entry) -> Entry:
        """As it was told where it is gone meanwhile."""
        client = self._client
        ask = partial(client.ask, "HEAD", bucket, prefix + entry.key)
        answer = await client.safely(ask)
        if answer.status == 404:
            return entry
        if answer.status != 200:
            what = f"Looking at large objects of {client.name}/{bucket}"
            raise client.error_of(answer, what=what)
        size = number(answer.headers.get("Content-Length"), "size")
        etag = answer.headers.get("ETag", "").strip('"')
        return entry._replace(size=size, etag=etag)

    async def is_empty(self, bucket: str) -> bool:
        return not (await self.page(bucket, b"", [("limit", "1")])).last

    async def has(self, bucket: str, name: bytes) -> bool:
        page = await self.page(bucket, name, [("limit", "1")])
        return any(entry.key == b"" for entry in page.entries)

    async def pages(
        self, prefix: bytes, *, after: bytes = b"", folders: str = ""
    ) -> AsyncIterator[list[Entry]]:
        """Until a page is empty: how long a full one is, each server decides."""
        bucket, start = self._client.split(prefix)
        marker = start + after if after else b""
        while True:
            page = await self.page(bucket, start, [("marker", marker)] if marker else [])
            if not page.last:
                return
            if page.last <= marker:
                raise in_circles(f"The listing of {self._client.name}/{bucket}")
            entries = [entry for entry in page.entries if entry.key]
            if entries:
                yield entries
            marker = page.last

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Level:
        """In their order, by a page. Raises StoreError."""
        bucket, start = self._client.split(prefix)
        query: Query = [("limit", str(limit))]
        if not bucket:
            return await self._level_of_containers(query, after, limit)
        query.append(("delimiter", "/"))
        if after:
            past = after
            if after.endswith(b"/"):  # a folder: past all that lies in it
                past = after + PAST_ALL
            query.append(("marker", start + past))
        page = await self.page(bucket, start, query)
        found = len(page.entries) + len(page.folders)
        last = page.last[len(start) :] if found >= limit else b""
        entries = [entry for entry in page.entries if entry.key]
        return Level(page.folders, entries, last)

    async def _level_of_containers(self, query: Query, after: bytes, limit: int) -> Level:
        if after:
            marker = after.rstrip(b"/")
            query = [*query, ("marker", marker)]
        found = await self._containers(query)
        names = [name.encode() + b"/" for name in found]
        last = names[-1] if len(names) >= limit else b""
        return Level(names, [], last)

    async def _containers(self, query: Query) -> list[str]:
        client = self._client
        full = [("format", "json"), *query]

        async def one() -> list[str]:
            answer = await client.ask("GET", "", query=full)
            if answer.status not in LISTED:
                what = f"Listing the containers of {client.name}"
                raise client.error_of(answer, what=what)
            rows = read_rows(bytes(answer.body))
            return [str(row.get("name", "")) for row in rows]

        return await client.safely(one)

    async def keeps_versions(self, key: bytes) -> bool:
        """Asked once of each container."""
        client = self._client
        known = self._facts.versioned
        bucket, _ = client.split(key)
        if bucket not in known:
            ask = partial(client.ask, "HEAD", bucket)
            answer = await client.safely(ask)
            if answer.status >= 500:
                what = f"Looking at {client.name}/{bucket}"
                raise client.error_of(answer, what=what)
            told = answer.headers.get("X-Versions-Enabled", "")
            is_on = told.lower() == "true"
            known[bucket] = is_on and answer.status < 300
        return known[bucket]

    async def versions(self, key: bytes) -> Sequence[Version]:
        """The newest first; none where the container keeps none. Raises StoreError."""
        if not await self.keeps_versions(key):
            return []
        client = self._client
        bucket, name = client.split(key)
        query: Query = [("format", "json"), ("versions", ""), ("prefix", name)]
        what = f"Listing the versions of {client.named(key)}"
        ask = partial(client.good, "GET", bucket, query=query, what=what)
        answer = await client.safely(ask)
        return parse_versions(answer.body, name)


def no_bucket(client: SwiftClient, bucket: str) -> StoreError:
    return Missing(
        f"{client.name}/{bucket}: there is no such container. Check its name, or make it first.",
        code="store.no-bucket",
    )
