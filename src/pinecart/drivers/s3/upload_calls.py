"""Uploads in parts, as the S3 protocol has them: each step is one request."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from functools import partial

from pinecart.drivers.bucketed.client import GONE, Query
from pinecart.drivers.http_message import HttpAnswer, Pieces
from pinecart.drivers.paging import PageTrail, each_page
from pinecart.drivers.s3.client import S3Client
from pinecart.drivers.s3.wire import Begun, completion, parse_parts, parse_uploads, text_of

Headers = Mapping[str, str]


class UploadCalls:
    """headers: of the request, besides those that every one has."""

    def __init__(self, client: S3Client) -> None:
        self._client = client

    async def begin(self, key: bytes, headers: Headers) -> str:
        """The upload's id."""
        bucket, name = self._client.split(key)
        answer = await self._client.good(
            "POST",
            bucket,
            name,
            query=[("uploads", "")],
            headers=dict(headers),
            what=f"Starting parts of {self._client.named(key)}",
        )
        return text_of(answer.body, "UploadId")

    async def send(
        self,
        key: bytes,
        upload: str,
        number: int,
        body: bytes | Pieces,
        headers: Headers,
        payload: str,
    ) -> str:
        """payload: the body's digest, as the signature has it. The part's ETag."""
        client = self._client
        bucket, name = client.split(key)
        answer = await client.good(
            "PUT",
            bucket,
            name,
            query=[("partNumber", str(number)), ("uploadId", upload)],
            headers=dict(headers),
            body=body,
            payload=payload,
            what=f"Writing part {number} of {client.named(key)}",
        )
        return answer.headers.get("ETag", "")

    async def complete(
        self, key: bytes, upload: str, etags: Sequence[str], headers: Headers
    ) -> HttpAnswer:
        """The answer, also where it is refused."""
        client = self._client
        bucket, name = client.split(key)
        body = completion(etags)
        return await client.ask(
            "POST",
            bucket,
            name,
            query=[("uploadId", upload)],
            headers={"content-length": str(len(body)), **headers},
            body=body,
            payload=client.signed_payload(body),
        )

    async def abort(self, key: bytes, upload: str) -> None:
        """Until the store says that it is gone. Raises StoreError."""
        client = self._client
        bucket, name = client.split(key)
        query: Query = [("uploadId", upload)]

        async def one() -> None:
            """Parts that are gone already are as good as taken away: a bucket may have a rule that
            clears them.
            """
            answer = await client.ask("DELETE", bucket, name, query=query)
            if answer.status not in GONE:
                what = f"Taking away unfinished parts of {client.named(key)}"
                raise client.error_of(answer, what=what)

        await client.safely(one)

    async def parts(self, key: bytes, upload: str) -> dict[tuple[int, int], str] | None:
        """(number, size) → ETag of what has come of it; None: there is no such upload."""
        client = self._client
        bucket, name = client.split(key)
        whole: Query = [("uploadId", upload)]
        query = whole
        trail = PageTrail(f"The list of parts of {client.named(key)}")
        there: dict[tuple[int, int], str] = {}
        while True:
            ask = partial(client.ask, "GET", bucket, name, query=query)
            answer = await client.safely(ask)
            if answer.status != 200:
                return None
            some, following = parse_parts(answer.body)
            for which, etag in some.items():
                there[which] = f'"{etag}"'
            if not following:
                return there
            marker = trail.follow(following)
            query = [("part-number-marker", marker), *whole]

    async def clear(self, key: bytes, since: str) -> int:
        """Takes away what was begun since then of just this key. Raises StoreError where it can't
        be told that none is left.
        """
        ours = await self._begun(key, datetime.fromisoformat(since))
        for upload in ours:
            await self.abort(key, upload)
        return len(ours)

    async def _begun(self, key: bytes, since: datetime) -> list[str]:
        """All pages are read: not every store tells them in order."""
        client = self._client
        bucket, name = client.split(key)
        query: Query = [("uploads", ""), ("prefix", name), ("encoding-type", "url")]
        what = f"Looking for unfinished uploads of {client.named(key)}"

        async def page(go_on: Query) -> tuple[list[Begun], Query]:
            ask = partial(client.good, "GET", bucket, query=[*query, *go_on], what=what)
            answer = await client.safely(ask)
            return parse_uploads(answer.body)

        found: list[str] = []
        async for uploads in each_page(what, page):
            found += [u for u, k, at in uploads if k == name and at >= since]
        return found
