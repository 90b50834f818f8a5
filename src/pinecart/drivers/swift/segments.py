"""The segments of large objects: in a container beside that of the object, named after the object
and the upload that made them. Only such of ours are ever taken away.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Sequence
from functools import partial

from pinecart.core.errors import Missing, Refused
from pinecart.drivers.bucketed.client import GONE, Query
from pinecart.drivers.paging import PageTrail
from pinecart.drivers.swift.client import UPLOAD, SwiftClient, is_large
from pinecart.drivers.swift.listing import SwiftLister
from pinecart.drivers.swift.wire import SEGMENTS, Segment, segment_told, segments_start

AT_ONCE = 8


class PartsUntold(Refused):
    """Of a large object: they may be of what is there."""

    code = "store.parts-untold"


class Segments:
    def __init__(self, client: SwiftClient, lister: SwiftLister) -> None:
        self._client = client
        self._lister = lister

    async def made_container(self, bucket: str) -> str:
        """The name of the container for what lies in `bucket`, which is there from then on."""
        name = bucket + SEGMENTS
        answer = await self._client.safely(partial(self._client.ask, "PUT", name))
        if answer.status == 403 and await self._is_there(name):
            return name
        if answer.status not in (201, 202):
            what = f"Making container {name!r} at {self._client.name} for parts of large files"
            raise self._client.error_of(answer, what=what)
        return name

    async def _is_there(self, container: str) -> bool:
        answer = await self._client.safely(partial(self._client.ask, "HEAD", container))
        return answer.status < 300

    async def of(self, key: bytes, upload: str = "") -> list[Segment]:
        """Ours of just this object, in order; of all uploads, or of one."""
        bucket, name = self._client.split(key)
        start = segments_start(name, upload)
        container = bucket + SEGMENTS
        found = list[Segment]()
        try:
            async for page in self._pages(container, start):
                found += page
        except Missing:
            return []
        return [s for s in found if segment_told(_name(s), name)]

    async def _pages(self, container: str, start: bytes) -> AsyncIterator[list[Segment]]:
        trail = PageTrail(f"The listing of {self._client.name}/{container}")
        query: Query = []
        while True:
            page = await self._lister.page(container, start, query)
            if not page.last:
                return
            yield [
                Segment(f"{container}/".encode() + start + e.key, e.etag, e.size)
                for e in page.entries
            ]
            marker = trail.follow(page.last)
            query = [("marker", marker)]

    async def made_of(self, key: bytes, version: str = "") -> list[Segment]:
        """Ours that a large object of this key is made of now."""
        bucket, name = self._client.split(key)
        container = f"{bucket}{SEGMENTS}/".encode()
        told = await self._client.segments(key, version)
        if not told:
            return await self._as_noted(key, version)
        ours = []
        for segment in told:
            is_in_ours = segment.path.startswith(container)
            if is_in_ours and segment_told(_name(segment), name):
                ours.append(segment)
        return ours

    async def _as_noted(self, key: bytes, version: str) -> list[Segment]:
        """Where the store doesn't tell what a large object is made of: by what was noted with it.
        Raises PartsUntold where nothing was.
        """
        found = await self.of(key)
        if not found:
            return []
        _, headers = await self._client.look(key, version)
        upload = headers.get(UPLOAD)
        if not upload:
            named = self._client.named(key)
            raise PartsUntold(
                f"{named}: the store doesn't tell which parts this large object is made of. Parts "
                "of ours for that name are left as they are."
            )
        start = segments_start(self._client.split(key)[1], upload)
        return [segment for segment in found if _name(segment).startswith(start)]

    async def in_use(self, key: bytes) -> list[Segment]:
        """Ours that what lies there is made of, and each version of it that is kept."""
        used = await self._of_one(key, "")
        if await self._lister.keeps_versions(key):
            for kept in await self._lister.versions(key):
                if not kept.is_removal:
                    used += await self._of_one(key, kept.version)
        return used

    async def _of_one(self, key: bytes, version: str) -> list[Segment]:
        try:
            _, headers = await self._client.look(key, version)
            if is_large(headers):
                return await self.made_of(key, version)
            return []
        except Missing:
            return []

    async def clear(self, segments: Sequence[Segment]) -> None:
        """Each is tried. Raises StoreError where one may be left."""
        failed = list[BaseException]()
        for at in range(0, len(segments), AT_ONCE):
            some = map(self._take_away, segments[at : at + AT_ONCE])
            came = await asyncio.gather(*some, return_exceptions=True)
            failed += [exc for exc in came if exc is not None]
        if failed:
            raise failed[0]

    async def _take_away(self, segment: Segment) -> None:
        """It may be gone already. Raises StoreError."""
        container, _, name = segment.path.partition(b"/")

        async def one() -> None:
            """One part, by its name in the container of parts. One that is gone already is as good
            as removed.
            """
            answer = await self._client.ask("DELETE", container.decode(), name)
            if answer.status not in GONE:
                what = f"Taking away parts of a large file at {self._client.name}"
                raise self._client.error_of(answer, what=what)

        await self._client.safely(one)


def _name(segment: Segment) -> bytes:
    return segment.path.partition(b"/")[2]
