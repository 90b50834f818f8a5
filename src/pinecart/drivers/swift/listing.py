"""What lies in a Swift account: listings, levels, versions."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from functools import partial

from pinecart.core.entries import Entry
from pinecart.core.errors import Incomplete, Missing, StoreError
from pinecart.core.ports import Level, Version
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import Query
from pinecart.drivers.swift.client import SwiftClient
from pinecart.drivers.swift.wire import SwiftPage, parse_page, parse_versions, read_rows

PAST_ALL = b"\xf4\x8f\xbf\xbf"  # the last letter there is


class SwiftLister:
    """Looks at names, and never changes anything. The store orders them by their bytes."""

    def __init__(self, client: SwiftClient, facts: BucketFacts) -> None:
        self._client, self._facts = client, facts

    async def page(self, bucket: str, prefix: bytes, query: Query) -> SwiftPage:
        client = self._client
        full: Query = [("format", "json"), *query] + ([("prefix", prefix)] if prefix else [])

        async def one() -> SwiftPage:
            answer = await client.ask("GET", bucket, query=full)
            if answer.status == 404:
                raise no_bucket(client, bucket)
            if answer.status not in (200, 204):
                raise client.error_of(answer, what=f"Listing {client.name}/{bucket}")
            return parse_page(bytes(answer.body), prefix=prefix)

        return await client.safely(one)

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
                raise Incomplete(
                    f"The listing of {self._client.name}/{bucket} goes round in circles. Ask the "
                    "store's operator."
                )
            entries = [entry for entry in page.entries if entry.key]
            if entries:
                yield entries
            marker = page.last

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Level:
        bucket, start = self._client.split(prefix)
        query: Query = [("limit", str(limit))]
        if not bucket:
            if after:
                query.append(("marker", after.rstrip(b"/")))
            names = [name.encode() + b"/" for name in await self._containers(query)]
            return Level(names, [], names[-1] if len(names) >= limit else b"")
        query.append(("delimiter", "/"))
        if after:
            past = after[:-1] + b"/" + PAST_ALL if after.endswith(b"/") else after
            query.append(("marker", start + past))
        page = await self.page(bucket, start, query)
        is_full = len(page.entries) + len(page.folders) >= limit
        entries = [entry for entry in page.entries if entry.key]
        return Level(page.folders, entries, page.last[len(start) :] if is_full else b"")

    async def _containers(self, query: Query) -> list[str]:
        client = self._client
        what = f"Listing the containers of {client.name}"

        async def one() -> list[str]:
            answer = await client.ask("GET", "", query=[("format", "json"), *query])
            if answer.status not in (200, 204):
                raise client.error_of(answer, what=what)
            return [str(row.get("name", "")) for row in read_rows(bytes(answer.body))]

        return await client.safely(one)

    async def keeps_versions(self, key: bytes) -> bool:
        bucket, _ = self._client.split(key)
        if bucket not in self._facts.versioned:
            answer = await self._client.safely(partial(self._client.ask, "HEAD", bucket))
            if answer.status >= 500:
                raise self._client.error_of(answer, what=f"Looking at {self._client.name}/{bucket}")
            told = answer.headers.get("X-Versions-Enabled", "")
            self._facts.versioned[bucket] = answer.status < 300 and told.lower() == "true"
        return self._facts.versioned[bucket]

    async def versions(self, key: bytes) -> Sequence[Version]:
        if not await self.keeps_versions(key):
            return []
        bucket, name = self._client.split(key)
        query: Query = [("format", "json"), ("versions", ""), ("prefix", name)]
        what = f"Listing the versions of {self._client.named(key)}"
        ask = partial(self._client.good, "GET", bucket, query=query, what=what)
        return parse_versions((await self._client.safely(ask)).body, name)


def no_bucket(client: SwiftClient, bucket: str) -> StoreError:
    return Missing(
        f"{client.name}/{bucket}: there is no such container. Check its name, or make it first.",
        code="store.no-bucket",
    )
