"""What lies in an S3-compatible store: listings, levels, versions."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from functools import partial
from typing import Any

from pinecart.core.entries import Entry
from pinecart.core.errors import Incomplete
from pinecart.core.ports import Level, Version
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import Query
from pinecart.drivers.s3.client import S3Client
from pinecart.drivers.s3.wire import parse_buckets, parse_page, parse_versions, text_of


class Lister:
    """Looks at names, and never changes anything."""

    def __init__(self, client: S3Client, facts: BucketFacts) -> None:
        self._client, self._facts = client, facts

    async def page(self, bucket: str, prefix: bytes, query: Query) -> Any:
        full: Query = [("list-type", "2"), ("encoding-type", "url"), *query]
        if prefix:
            full.append(("prefix", prefix))
        client = self._client
        what = f"Listing {client.name}/{bucket}"

        async def one() -> Any:
            answer = await client.good("GET", bucket, query=full, what=what)
            return parse_page(answer.body, prefix=prefix)

        return await client.safely(one)

    async def is_empty(self, bucket: str) -> bool:
        page = await self.page(bucket, b"", [("max-keys", "1")])
        return not (page.entries or page.folders)

    async def has(self, bucket: str, name: bytes) -> bool:
        page = await self.page(bucket, name, [("max-keys", "1")])
        return any(entry.key == b"" for entry in page.entries)

    async def pages(
        self, prefix: bytes, *, after: bytes = b"", folders: str = ""
    ) -> AsyncIterator[list[Entry]]:
        bucket, start = self._client.split(prefix)
        query = _after(start + after) if after else []
        seen: set[str] = set()
        while True:
            page = await self.page(bucket, start, query)
            entries = [e for e in page.entries if e.key]
            if entries:
                yield entries
            if page.marker:
                query = _after(page.marker)
                continue
            if not page.token:
                return
            if page.token in seen:
                raise Incomplete(
                    f"The listing of {self._client.name}/{bucket} goes round in circles. Ask the "
                    "store's operator."
                )
            seen.add(page.token)
            query = [("continuation-token", page.token)]

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Level:
        bucket, start = self._client.split(prefix)
        if not bucket:
            answer = await self._client.safely(
                lambda: self._client.good(
                    "GET", "", what=f"Listing the buckets of {self._client.name}"
                )
            )
            names = [
                n.encode() + b"/" for n in parse_buckets(answer.body) if n.encode() + b"/" > after
            ]
            return Level(names[:limit], [], names[limit - 1] if len(names) > limit else b"")
        query: Query = [("delimiter", "/"), ("max-keys", str(limit))]
        # Going on after a folder `x/`: the first name past everything in it is `x0`, since 0
        # follows / in bytes.
        if after:
            query += _after(
                start + (after[:-1] + b"/\xf4\x8f\xbf\xbf" if after.endswith(b"/") else after)
            )
        page = await self.page(bucket, start, query)
        last = max([e.key for e in page.entries] + page.folders, default=b"")
        return Level(
            page.folders,
            [e for e in page.entries if e.key],
            last if page.token or page.marker else b"",
        )

    async def keeps_versions(self, key: bytes) -> bool:
        return await self.bucket_keeps_versions(self._client.split(key)[0])

    async def bucket_keeps_versions(self, bucket: str) -> bool:
        if bucket not in self._facts.versioned:
            answer = await self._client.safely(
                lambda: self._client.ask("GET", bucket, query=[("versioning", "")])
            )
            if answer.status >= 500 and answer.status != 501:
                raise self._client.error_of(
                    answer,
                    what=f"Looking at {self._client.name}/{bucket}",
                )
            self._facts.versioned[bucket] = (
                answer.status == 200 and text_of(answer.body, "Status") == "Enabled"
            )
        return self._facts.versioned[bucket]

    async def versions(self, key: bytes) -> Sequence[Version]:
        """The newest first; none where the bucket keeps none. Raises StoreError."""
        client = self._client
        bucket, name = client.split(key)
        query: Query = [("versions", ""), ("prefix", name), ("encoding-type", "url")]
        ask = partial(client.ask, "GET", bucket, query=query)
        answer = await client.safely(ask)
        if answer.status in (400, 405, 501):  # knows none
            return []
        if answer.status != 200:
            what = f"Listing the versions of {client.named(key)}"
            raise client.error_of(answer, what=what)
        found = parse_versions(answer.body, name)
        names = [kept.version for kept in found]
        if names == ["null"]:  # a bucket that never kept any
            return []
        return found


def _after(key: bytes) -> Query:
    """Where a listing begins: under its name in version 2, and in version 1, which some stores only
    know.
    """
    return [("start-after", key), ("marker", key)]
