"""What a bucket can do, found out by small objects of our own, which are taken away again."""

from __future__ import annotations

import hashlib
from collections.abc import Awaitable, Callable
from functools import partial
from typing import Any

from pinecart.core.errors import Halting, Refused, StoreError
from pinecart.core.ports import Uploads
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import GONE
from pinecart.drivers.bucketed.probing import ObjectProber
from pinecart.drivers.bucketed.writing import md5_of, md5_text
from pinecart.drivers.http_message import HttpAnswer
from pinecart.drivers.s3.client import S3Client
from pinecart.drivers.s3.copy_source import CopySource
from pinecart.drivers.s3.listing import Lister
from pinecart.drivers.s3.upload_calls import UploadCalls

NEVER = '"no-such-etag"'
DONE, DENIED = 200, 403
UNMET = (404, 412)  # of a condition on what isn't there
Asks = Callable[[bytes], Awaitable[int]]  # of a key, and the status of the answer


class S3Prober(ObjectProber):
    def __init__(self, client: S3Client, facts: BucketFacts, lister: Lister) -> None:
        """What it finds is kept with the facts of the bucket, for all who use the store."""
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
        status = await self._written({"if-match": NEVER}, key)
        self._facts.guards.replacements[bucket] = status in UNMET
        if status == DONE:  # no notice was taken; some know the other condition alone
            again = await self._written({"if-none-match": "*"}, key)
            self._facts.learn(bucket, create_only=again == 412)
            await self.take_away_if_allowed(key)

    async def _refuses(self, key: bytes, headers: dict[str, str]) -> bool:
        """Whether a small write with these headers is refused."""
        status = await self._written(headers, key)
        if status == DONE:
            await self.take_away_if_allowed(key)
        return status in (400, *UNMET, 409, 501)

    async def _written(self, headers: dict[str, str], key: bytes) -> int:
        """The status of a small write with these headers."""
        body = b"pinecart asks whether checksums are verified here"
        payload = hashlib.sha256(body).hexdigest()
        answer = await self._asked(key, headers, body=body, payload=payload)
        if answer.status != DONE:
            error = self._error(answer)
            if answer.status == DENIED or error.code == "store.no-bucket":
                raise error
        return answer.status

    # --- conditions that some stores take notice of in plain writes alone. Each is asked once of a
    # bucket, by a name of ours beside what is written there: only where no notice is taken is
    # there anything to take away. `journal`: of what a killed run has to take away

    async def guards_replacements(self, beside: bytes, journal: Uploads | None) -> bool:
        """Whether a plain write is held against the ETag of what it replaces."""
        if not self._guards_writes(beside):
            return False
        known = self._facts.guards.replacements
        return await self._held(known, beside, journal, partial(self._written, {"if-match": NEVER}))

    async def guards_copies(
        self, beside: bytes, source: CopySource, journal: Uploads | None
    ) -> bool:
        """Whether the condition of a copy is held against its destination."""
        if not self._guards_writes(beside):
            return False
        known = self._facts.guards.copies
        ask = partial(self._copied, source, {"if-match": NEVER})
        return await self._held(known, beside, journal, ask)

    async def guards_sources(
        self, beside: bytes, source: CopySource, journal: Uploads | None
    ) -> bool:
        """Whether the bucket holds the condition of a copy against its source. Asked once a
        bucket, by a copy that must be refused.
        """
        known = self._facts.guards.sources
        ask = partial(self._copied, source, {"x-amz-copy-source-if-match": NEVER})
        return await self._held(known, beside, journal, ask)

    async def guards_completions(self, beside: bytes, journal: Uploads | None) -> bool:
        """Whether the step that makes an object of parts holds a condition."""
        if not self._guards_writes(beside):
            return False
        known = self._facts.guards.completions
        return await self._held(known, beside, journal, self._completed)

    def _guards_writes(self, key: bytes) -> bool:
        bucket, _ = self._client.split(key)
        return self._facts.able(bucket).create_only

    async def _held(
        self, known: dict[str, bool], beside: bytes, journal: Uploads | None, ask: Asks
    ) -> bool:
        """False without asking, where nothing may be removed: a probe of ours would lie there for
        good, in somebody else's bucket.
        """
        if not self._may_delete:
            return False
        return await self.ask_once(known, beside, journal, partial(self._tried, ask))

    async def _tried(self, ask: Asks, key: bytes) -> bool:
        """No, too, where this key may not do what it takes."""
        status = DONE
        try:
            status = await ask(key)
        except Halting:
            raise
        except Refused:
            status = DENIED
        finally:
            if status == DONE:
                await self.take_away_if_allowed(key)
        return status in UNMET

    async def _copied(self, source: CopySource, condition: dict[str, str], key: bytes) -> int:
        """The status of a copy to `key` under a condition that can't be met."""
        headers = {"x-amz-copy-source": source.path, **condition}
        answer = await self._asked(key, headers)
        if answer.status == 404:  # it says something of the condition only if there is a source
            await source.must_be_as_planned()
        return answer.status

    async def _completed(self, key: bytes) -> int:
        """The status of an upload of one part that is made an object under such a condition."""
        since = self._client.journal_date()
        calls = self._calls
        body = b"pinecart asks whether conditions are held here"
        payload = self._client.signed_payload(body)
        begun: list[str] = []
        try:
            upload = await calls.begin(key, {})
            begun.append(upload)
            etag = await self._client.safely(lambda: calls.send(key, upload, 1, body, {}, payload))
            answer = await calls.complete(key, upload, [etag], {"if-match": NEVER})
        finally:
            await self._clear_if_allowed(key, begun, since)
        if answer.status >= 500 and answer.status != 501:
            raise self._error(answer)
        return answer.status

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

    async def _asked(self, key: bytes, headers: dict[str, str], **rest: Any) -> HttpAnswer:
        """The answer to a write, also where it is refused. Raises StoreError for a fault."""
        bucket, name = self._client.split(key)
        ask = partial(self._client.ask, "PUT", bucket, name, headers=headers, **rest)

        async def one() -> HttpAnswer:
            """One of the same request, some of which may be refused. A fault of the store says
            nothing of what it can do.
            """
            answer = await ask()
            self._may_be_late = self._may_be_late or answer.status == DONE
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
        if await self._lister.bucket_keeps_versions(bucket):
            kept = [v.version for v in await self._lister.versions(key)]
        else:
            kept = [""]
        for version in kept:

            async def one(version: str = version) -> None:
                which = self._client.versioned(version)
                answer = await self._client.ask("DELETE", bucket, name, query=which)
                if answer.status not in GONE:
                    named = self._client.named(key)
                    raise self._client.error_of(answer, what=f"Taking away our probe {named}")

            await self._client.safely(one)
