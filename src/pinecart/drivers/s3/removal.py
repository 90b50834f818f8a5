"""How an object goes: exactly this one, under a condition where the store holds it."""

from __future__ import annotations

import secrets

from pinecart.core.entries import Entry
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import GONE
from pinecart.drivers.bucketed.probing import PROBE
from pinecart.drivers.s3.client import S3Client
from pinecart.drivers.s3.listing import Lister


class ObjectRemover:
    """Looks just before, and asks under a condition."""

    def __init__(self, client: S3Client, facts: BucketFacts, lister: Lister) -> None:
        """Which buckets hold their conditions against other ETags than they tell is found out by
        the first removal that is refused so.
        """
        self._client = client
        self._facts = facts
        self._lister = lister
        self._misjudged = set[str]()  # buckets whose conditions are no use

    async def remove(self, key: bytes, expected: Entry) -> bool:
        client = self._client
        bucket, name = client.split(key)
        named = client.named(key)
        await client.must_still_be(key, expected)

        # Swift holds the condition against another ETag in a bucket that keeps versions; there
        # nothing is lost without it.
        keeps = await self._lister.keeps_versions(key)
        guards = False
        headers = {}
        if not keeps and bucket not in self._misjudged:
            headers = {"if-match": f'"{expected.etag}"'}
            guards = await self._guards(bucket, name)

        async def one() -> bool:
            """True: the store itself held the removal to the ETag. Without that it was looked at
            just before, which the record then says.
            """
            answer = await client.ask("DELETE", bucket, name, headers=headers)
            unheld = answer.status == 501  # it knows no conditions
            if answer.status == 412:  # or holds them against another ETag than it tells
                await client.must_still_be(key, expected)
                self._misjudged.add(bucket)
                unheld = True
            if unheld:
                answer = await client.ask("DELETE", bucket, name)
            if answer.status not in GONE:
                what = f"Removing {named}"
                raise client.error_of(answer, what=what)
            return guards and not unheld

        return await client.safely(one)

    async def _guards(self, bucket: str, name: bytes) -> bool:
        """Whether a delete's condition is held: asked once, by deleting a name of ours that isn't
        there, under one.

        Not for a bucket that keeps versions: it might keep a mark of that delete.
        """
        if bucket not in self._facts.guards.removals:
            ours = name[: name.rfind(b"/") + 1] + PROBE + secrets.token_hex(8).encode()

            async def one(headers: dict[str, str]) -> int:
                answer = await self._client.ask("DELETE", bucket, ours, headers=headers)
                if answer.status >= 500 and answer.status != 501:
                    what = f"Probing {self._client.name}"
                    raise self._client.error_of(answer, what=what)
                return answer.status

            status = await self._client.safely(lambda: one({"if-match": '"no-such-etag"'}))
            # Some stores answer 404 to any delete of what isn't there: then it says nothing of the
            # condition.
            guarded = status == 412 or (
                status == 404 and await self._client.safely(lambda: one({})) == 204
            )
            self._facts.guards.removals[bucket] = guarded
        return self._facts.guards.removals[bucket]
