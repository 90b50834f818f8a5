"""What lies in an S3-compatible store: listings, levels, versions."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from functools import partial

from pinecart.core.entries import Entry
from pinecart.core.ports import Level, Version
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import PAST_ALL, Query
from pinecart.drivers.paging import PageTrail, each_page, in_circles
from pinecart.drivers.s3.client import S3Client
from pinecart.drivers.s3.wire import (
    ListingPage,
    parse_buckets,
    parse_page,
    parse_versions,
    text_of,
)


class Lister:
    """Looks at names, and never changes anything."""

    def __init__(self, client: S3Client, facts: BucketFacts) -> None:
        self._client = client
        self._facts = facts
        self._knows_only_1 = False  # of the versions of listings

    async def page(self, bucket: str, prefix: bytes, query: Query) -> ListingPage:
        full: Query = [("encoding-type", "url"), *query]
        if not self._knows_only_1:
            full.append(("list-type", "2"))
        if prefix:
            full.append(("prefix", prefix))
        client = self._client
        what = f"Listing {client.name}/{bucket}"

        async def one() -> ListingPage:
            answer = await client.good("GET", bucket, query=full, what=what)
            return parse_page(answer.body, prefix=prefix)

        return await client.safely(one)

    async def _following(
        self, bucket: str, prefix: bytes, query: Query, start: bytes, last: bytes
    ) -> ListingPage:
        """A page of what comes after `start`, a whole key.

        last: below the prefix. Where something up to it comes again, no notice was taken of
        `start`: the store knows only version 1, which has another name for it. Some refuse to be
        sent both. Others take notice of neither, or not where they tell folders.
        """
        knew_only_1 = self._knows_only_1
        page = ListingPage([], [], "")
        if not knew_only_1:
            page = await self.page(bucket, prefix, [*query, ("start-after", start)])
            if not _comes_again(page, last):
                return page
            self._knows_only_1 = True
        older = await self.page(bucket, prefix, [*query, ("marker", start)])
        if not _comes_again(older, last):
            return older
        self._knows_only_1 = knew_only_1
        rest = _what_follows(older if knew_only_1 else page, last)
        if not (rest.entries or rest.folders) and (rest.token or rest.marker):
            raise in_circles(self._listing_of(bucket))
        return rest

    def _listing_of(self, bucket: str) -> str:
        return f"The listing of {self._client.name}/{bucket}"

    async def is_empty(self, bucket: str) -> bool:
        page = await self.page(bucket, b"", [("max-keys", "1")])
        return not (page.entries or page.folders or page.token or page.marker)

    async def has(self, bucket: str, name: bytes) -> bool:
        page = await self.page(bucket, name, [("max-keys", "1")])
        return any(entry.key == b"" for entry in page.entries)

    async def pages(
        self, prefix: bytes, *, after: bytes = b"", folders: str = ""
    ) -> AsyncIterator[list[Entry]]:
        """Pages of at most a thousand, to the end, whichever of the ways the store has of telling
        where the next begins. A circle is refused.
        """
        bucket, start = self._client.split(prefix)
        trail = PageTrail(self._listing_of(bucket))
        if after:
            page = await self._following(bucket, start, [], start + after, after)
        else:
            page = await self.page(bucket, start, [])
        while True:
            entries = [e for e in page.entries if e.key]
            if entries:
                yield entries
            if page.marker:
                last = page.marker[len(start) :]
                page = await self._following(bucket, start, [], page.marker, last)
                continue
            if not page.token:
                return
            token = trail.follow(page.token)
            page = await self.page(bucket, start, [("continuation-token", token)])

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
        if after:
            past = after + PAST_ALL if after.endswith(b"/") else after
            page = await self._following(bucket, start, query, start + past, after)
        else:
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
        """Asked once for a bucket. A store that doesn't know the question, or says no to it, keeps
        none; a fault of its own is no answer.
        """
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
        what = f"Listing the versions of {client.named(key)}"

        async def page(go_on: Query) -> tuple[list[Version], Query]:
            ask = partial(client.ask, "GET", bucket, query=[*query, *go_on])
            answer = await client.safely(ask)
            if answer.status in (400, 405, 501) and not go_on:  # knows none
                return [], []
            if answer.status != 200:
                raise client.error_of(answer, what=what)
            return parse_versions(answer.body, name)

        found = [kept async for some in each_page(what, page) for kept in some]
        names = [kept.version for kept in found]
        if names == ["null"]:  # a bucket that never kept any
            return []
        return found


def _what_follows(page: ListingPage, last: bytes) -> ListingPage:
    """Of a page that began before it, or at the beginning."""
    entries = [entry for entry in page.entries if entry.key > last]
    return page._replace(entries=entries, folders=[name for name in page.folders if name > last])


def _comes_again(page: ListingPage, last: bytes) -> bool:
    """Whether something is told that was told before."""
    names = [*page.folders, *(entry.key for entry in page.entries)]
    return any(name <= last for name in names)
