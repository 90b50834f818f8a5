"""What a bucket can do, found out by small objects of our own, which are taken away again."""

from __future__ import annotations

import asyncio
import hashlib
import secrets

from pinecart.core.errors import Unsafe
from pinecart.core.places import show
from pinecart.core.ports import Abilities, Uploads
from pinecart.drivers.http_message import HttpAnswer
from pinecart.drivers.s3.bucket_facts import BucketFacts
from pinecart.drivers.s3.client import GONE, S3Client, error_of, versioned
from pinecart.drivers.s3.listing import Lister
from pinecart.drivers.s3.writing import md5_of

PROBE = b".pinecart-probe-"


class Prober:
    """Asks once for each bucket."""

    def __init__(self, client: S3Client, facts: BucketFacts, lister: Lister) -> None:
        self._client, self._facts, self._lister = client, facts, lister
        self._one_at_a_time = asyncio.Lock()

    async def probe(self, prefix: bytes, journal: Uploads | None = None) -> Abilities:
        """A write with a wrong checksum: a store that verifies refuses it. What is stored all the
        same is taken away.
        """
        bucket, _ = self._client.split(prefix)
        async with self._one_at_a_time:
            if bucket not in self._facts.probed:
                key = prefix + PROBE + secrets.token_hex(8).encode()
                if journal:
                    await journal.begun(key, "probe", self._client.now().isoformat())
                await self._find_out(key)
                self._facts.probed.add(bucket)
                if journal:
                    await journal.over(key)
        return self._facts.able(bucket)

    async def _find_out(self, key: bytes) -> None:
        bucket, _ = self._client.split(key)
        for header, wrong, name in (
            ("x-amz-checksum-crc64nvme", "AAAAAAAAAAE=", "crc64nvme"),
            ("content-md5", md5_of(b"another body"), "md5"),
        ):
            if await self._refuses(key, {header: wrong}):
                self._facts.learn(bucket, checksum=name)
                break
        if not await self._refuses(key, {"if-match": '"no-such-etag"'}):
            self._facts.learn(bucket, create_only=False)  # it takes no notice of conditions

    async def _refuses(self, key: bytes, headers: dict[str, str]) -> bool:
        """Whether a small write with these headers is refused.

        If it isn't, what it left is taken away.
        """
        body = b"pinecart asks whether checksums are verified here"
        bucket, name = self._client.split(key)
        payload = hashlib.sha256(body).hexdigest()
        full = headers | {"content-length": str(len(body))}

        async def one() -> HttpAnswer:
            answer = await self._client.ask(
                "PUT", bucket, name, headers=full, body=body, payload=payload
            )
            if answer.status >= 500 and answer.status != 501:
                raise error_of(answer, what=f"Probing {self._client.name}")
            return answer

        answer = await self._client.safely(one)
        if answer.status == 200:
            await self.take_away(key)
            return False
        error = error_of(answer, what=f"Probing {self._client.name}")
        if answer.status == 403 or error.code == "store.no-bucket":
            raise error
        return answer.status in (400, 404, 409, 412, 501)

    async def take_away(self, key: bytes) -> None:
        """Take away a small object of our own, with all versions of it.

        Nothing else is ever deleted here.
        """
        if PROBE not in key:
            raise Unsafe(f"{show(key)} is not a probe of ours.")
        bucket, name = self._client.split(key)
        kept = (
            [v.version for v in await self._lister.versions(key)]
            if await self._lister.bucket_keeps_versions(bucket)
            else [""]
        )
        for version in kept:

            async def one(version: str = version) -> None:
                which = versioned(version)
                answer = await self._client.ask("DELETE", bucket, name, query=which)
                if answer.status not in GONE:
                    named = self._client.named(key)
                    raise error_of(answer, what=f"Taking away our probe {named}")

            await self._client.safely(one)
