"""What a bucket can do, found out by small objects of our own, which are taken away again."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Awaitable, Callable
from functools import partial
from typing import Any

from pinecart.core.errors import Halting, Refused, StoreError
from pinecart.core.ports import OF_A_PROBE, Uploads
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import GONE
from pinecart.drivers.bucketed.probing import PROBE, ObjectProber
from pinecart.drivers.bucketed.writing import md5_of, md5_text
from pinecart.drivers.http_message import HttpAnswer
from pinecart.drivers.s3.client import S3Client
from pinecart.drivers.s3.listing import Lister
from pinecart.drivers.s3.signing import encoded_path
from pinecart.drivers.s3.upload_calls import UploadCalls

Refuses = Callable[[bytes, bytes], Awaitable[bool]]


class S3Prober(ObjectProber):
    def __init__(self, client: S3Client, facts: BucketFacts, lister: Lister) -> None:
        super().__init__(client, facts)
        self._client = client
        self._calls = UploadCalls(client)
        self._lister = lister

    async def find_out(self, key: bytes) -> None:
        """A write with a wrong checksum: a store that verifies refuses it."""
        bucket, _ = self._client.split(key)
        for header, wrong, name in (
            ("x-amz-checksum-crc64nvme", "AAAAAAAAAAE=", "crc64nvme"),
            ("content-md5", md5_text(md5_of(b"another body")), "md5"),
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
        payload = hashlib.sha256(body).hexdigest()
        answer = await self._asked(key, headers, body=body, payload=payload)
        if answer.status == 200:
            await self.take_away_if_allowed(key)
            return False
        error = self._error(answer)
        if answer.status == 403 or error.code == "store.no-bucket":
            raise error
        return answer.status in (400, 404, 409, 412, 501)

    # --- conditions that some stores take notice of in plain writes alone. Each is asked once of a
    # bucket, beside what is written there; `journal`: of what a killed run has to take away

    async def guards_copies(self, beside: bytes, journal: Uploads | None) -> bool:
        """Whether the condition of a copy is held against its destination."""
        if not self._guards_writes(beside):
            return False
        known = self._facts.guards.copies
        return await self._held(known, beside, journal, self._refuses_a_copy)

    async def guards_sources(self, beside: bytes, journal: Uploads | None) -> bool:
        """Whether the condition of a copy against its source is held."""
        known = self._facts.guards.sources
        return await self._held(known, beside, journal, self._refuses_a_source)

    async def guards_completions(self, beside: bytes, journal: Uploads | None) -> bool:
        """Whether the step that makes an object of parts holds a condition."""
        if not self._guards_writes(beside):
            return False
        known = self._facts.guards.completions
        return await self._held(known, beside, journal, self._refuses_a_completion)

    def _guards_writes(self, key: bytes) -> bool:
        bucket, _ = self._client.split(key)
        return self._facts.able(bucket).create_only

    async def _held(
        self, known: dict[str, bool], beside: bytes, journal: Uploads | None, refuses: Refuses
    ) -> bool:
        bucket, _ = self._client.split(beside)
        if not self._may_delete:
            return False
        async with self._one_at_a_time:
            if bucket not in known:
                folder = beside[: beside.rfind(b"/") + 1]
                known[bucket] = await self._tried(folder, journal, refuses)
        return known[bucket]

    async def _tried(self, folder: bytes, journal: Uploads | None, refuses: Refuses) -> bool:
        """By two small objects. No, too, where this key may not do what it takes."""
        mark = folder + PROBE + secrets.token_hex(8).encode()
        keys = [mark + b"-1", mark + b"-2"]
        try:
            for key in keys:
                if journal:
                    await journal.begun(key, OF_A_PROBE, self._client.journal_date())
                await self._made(key)
            is_held = await refuses(*keys)
        except Halting:
            raise
        except Refused:
            is_held = False
        finally:
            for key in keys:
                await self.take_away_if_allowed(key)
        if journal and self._may_delete:
            for key in keys:
                await journal.over(key)
        return is_held

    async def _refuses_a_copy(self, here: bytes, there: bytes) -> bool:
        headers = {"x-amz-copy-source": self._path_of(here), "if-none-match": "*"}
        answer = await self._asked(there, headers)
        return answer.status == 412

    async def _refuses_a_source(self, here: bytes, there: bytes) -> bool:
        source = self._path_of(here)
        headers = {"x-amz-copy-source": source, "x-amz-copy-source-if-match": '"no-such-etag"'}
        answer = await self._asked(there, headers)
        return answer.status == 412

    def _path_of(self, key: bytes) -> str:
        bucket, name = self._client.split(key)
        return encoded_path(bucket, name)

    async def _refuses_a_completion(self, here: bytes, there: bytes) -> bool:
        since = self._client.journal_date()
        calls = self._calls
        body = b"pinecart asks whether conditions are held here"
        payload = self._client.signed_payload(body)
        begun: list[str] = []
        try:
            upload = await calls.begin(there, {})
            begun.append(upload)
            etag = await self._client.safely(
                lambda: calls.send(there, upload, 1, body, {}, payload)
            )
            answer = await calls.complete(there, upload, [etag], {"if-none-match": "*"})
        finally:
            await self._clear_if_allowed(there, begun, since)
        if answer.status >= 500 and answer.status != 501:
            raise self._error(answer)
        return answer.status == 412

    async def _clear_if_allowed(self, key: bytes, begun: list[str], since: str) -> None:
        """begun: an upload; empty: its id was told to nobody."""
        try:
            for upload in begun:
                await self._calls.abort(key, upload)
            if not begun:
                await self._calls.clear(key, since)
        except Halting:
            raise
        except Refused:
            self._may_delete = False

    async def _made(self, key: bytes) -> None:
        answer = await self._asked(key, {})
        if answer.status != 200:
            raise self._error(answer)

    async def _asked(self, key: bytes, headers: dict[str, str], **rest: Any) -> HttpAnswer:
        """The answer to a write, also where it is refused. Raises StoreError for a fault."""
        bucket, name = self._client.split(key)
        ask = partial(self._client.ask, "PUT", bucket, name, headers=headers, **rest)

        async def one() -> HttpAnswer:
            answer = await ask()
            is_fault = answer.status >= 500 and answer.status != 501
            if is_fault:
                raise self._error(answer)
            return answer

        return await self._client.safely(one)

    def _error(self, answer: HttpAnswer) -> StoreError:
        what = f"Probing {self._client.name}"
        return self._client.error_of(answer, what=what)

    async def delete(self, key: bytes) -> None:
        bucket, name = self._client.split(key)
        kept = (
            [v.version for v in await self._lister.versions(key)]
            if await self._lister.bucket_keeps_versions(bucket)
            else [""]
        )
        for version in kept:

            async def one(version: str = version) -> None:
                which = self._client.versioned(version)
                answer = await self._client.ask("DELETE", bucket, name, query=which)
                if answer.status not in GONE:
                    named = self._client.named(key)
                    raise self._client.error_of(answer, what=f"Taking away our probe {named}")

            await self._client.safely(one)
