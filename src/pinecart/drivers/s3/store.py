"""S3-compatible object stores, whatever the maker: signs, lists, reads and writes by itself, one
request an object.
"""

from __future__ import annotations

import contextlib
import hashlib
import secrets
from collections.abc import AsyncIterator, Collection, Mapping, Sequence
from contextlib import asynccontextmanager
from typing import Any

from pinecart.core.entries import Entry
from pinecart.core.errors import Incomplete, Refused, Taken, Unsafe
from pinecart.core.places import show
from pinecart.core.ports import Abilities, Level, Uploads, Version
from pinecart.core.retry import Retry
from pinecart.drivers.addresses import Allowed
from pinecart.drivers.http_message import HttpAnswer
from pinecart.drivers.s3.client import Query, keys_of, versioned
from pinecart.drivers.s3.reading import Object
from pinecart.drivers.s3.wire import (
    error_from,
    parse_buckets,
    parse_versions,
    text_of,
)
from pinecart.drivers.s3.writing import S3Writing, md5_of
from pinecart.drivers.transport import Transport

PROBE = b".pinecart-probe-"


class S3Store(S3Writing):
    """The whole store: what asks and what writes, with listings, removals and buckets over them."""

    @classmethod
    def from_spec(cls, spec: Mapping[str, Any]) -> S3Store:
        given: dict[str, Any] = {
            k: float(spec[k]) for k in ("connect_s", "silence_s") if spec.get(k)
        }
        texts: dict[str, Any] = {k: spec.get(k) or "" for k in ("certificate", "proxy")}
        transport = Transport(
            spec["endpoint"],
            allowed=Allowed(tuple(spec.get("allowed", ()))),
            **given,
            **texts,
            at_proxy=(spec.get("proxy_user") or "", spec.get("proxy_password") or ""),
        )
        keys = keys_of(spec)
        store = cls(
            spec["name"],
            transport,
            keys,
            region=spec.get("region") or "",
            root=spec.get("root") or "",
            retry=Retry(**spec.get("retry", {})),
        )
        store._in_host = spec.get("addressing") == "host"
        store._signs_payload = not transport.is_tls and spec.get("sign_payload") != "no"
        store.most_at_once = int(spec.get("most_at_once") or 0)
        for bucket, told in (spec.get("abilities") or {}).items():
            store._remember(bucket, told)
        return store

    async def abilities(self, prefix: bytes) -> Abilities:
        return self.able(self._bucket_of(prefix))

    def _bucket_of(self, prefix: bytes) -> str:
        return (self._root + prefix).partition(b"/")[0].decode("utf-8", "replace")

    def learned(self) -> dict[str, Any]:
        found: dict[str, Any] = {}
        for bucket in self._probed:
            able = self.able(bucket)
            found[bucket] = {"checksum": able.checksum, "create_only": able.create_only}
            if bucket in self._removals_guarded:
                found[bucket]["guards_removals"] = self._removals_guarded[bucket]
        return found

    def _remember(self, bucket: str, told: Mapping[str, Any]) -> None:
        """What `learned` gave before; nonsense is nothing."""
        if not isinstance(told, Mapping) or not isinstance(told.get("checksum"), str):
            return
        self._learn(
            bucket, checksum=told["checksum"], create_only=bool(told.get("create_only", True))
        )
        self._probed.add(bucket)
        if "guards_removals" in told:
            self._removals_guarded[bucket] = bool(told["guards_removals"])

    def identity(self, prefix: bytes) -> str:
        return f"s3:{self._transport.origin}/{show(self._root + prefix)}"

    # --- looking

    async def check_place(self, prefix: bytes) -> None:
        bucket, _ = self._split(prefix)
        if not bucket:
            raise Refused(
                f"pine://{self.name}/: name a bucket: the first part of the path.",
                code="store.no-bucket-named",
            )
        await self._page(bucket, b"", [("max-keys", "1")])

    async def list(
        self, prefix: bytes, *, after: bytes = b"", folders: str = ""
    ) -> AsyncIterator[list[Entry]]:
        bucket, start = self._split(prefix)
        query = _after(start + after) if after else []
        seen: set[str] = set()
        while True:
            page = await self._page(bucket, start, query)
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
                    f"The listing of {self.name}/{bucket} goes round in circles. Ask the "
                    "store's operator."
                )
            seen.add(page.token)
            query = [("continuation-token", page.token)]

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Level:
        bucket, start = self._split(prefix)
        if not bucket:
            answer = await self._safely(
                lambda: self._good("GET", "", what=f"Listing the buckets of {self.name}")
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
        page = await self._page(bucket, start, query)
        last = max([e.key for e in page.entries] + page.folders, default=b"")
        return Level(
            page.folders,
            [e for e in page.entries if e.key],
            last if page.token or page.marker else b"",
        )

    async def keeps_versions(self, key: bytes) -> bool:
        return await self._keeps_versions(self._split(key)[0])

    async def _keeps_versions(self, bucket: str) -> bool:
        if bucket not in self._versioned:
            answer = await self._safely(
                lambda: self._ask("GET", bucket, query=[("versioning", "")])
            )
            if answer.status >= 500 and answer.status != 501:
                raise error_from(
                    answer.status,
                    answer.headers,
                    answer.body,
                    what=f"Looking at {self.name}/{bucket}",
                )
            self._versioned[bucket] = (
                answer.status == 200 and text_of(answer.body, "Status") == "Enabled"
            )
        return self._versioned[bucket]

    async def versions(self, key: bytes) -> Sequence[Version]:
        bucket, name = self._split(key)
        query: Query = [("versions", ""), ("prefix", name), ("encoding-type", "url")]
        answer = await self._safely(lambda: self._ask("GET", bucket, query=query))
        if answer.status in (400, 405, 501):
            return []
        if answer.status != 200:
            what = f"Listing the versions of {self._named(key)}"
            raise error_from(answer.status, answer.headers, answer.body, what=what)
        found = parse_versions(answer.body, name)
        return (
            [] if [v.version for v in found] == ["null"] else found
        )  # a bucket that never kept any

    # --- reading

    def open(
        self, key: bytes, expected: Entry | None = None, *, version: str = ""
    ) -> contextlib.AbstractAsyncContextManager[Object]:
        if expected is None:
            return self._looked_up(key, version)
        return contextlib.nullcontext(Object(self, key, expected, version))

    @asynccontextmanager
    async def _looked_up(self, key: bytes, version: str) -> AsyncIterator[Object]:
        yield Object(self, key, (await self.stat(key, version)).entry, version)

    # --- writing

    async def probe(self, prefix: bytes, journal: Uploads | None = None) -> Abilities:
        """A write with a wrong checksum: a store that verifies refuses it. What is stored all the
        same is taken away.
        """
        bucket, _ = self._split(prefix)
        async with self._probing:
            if bucket not in self._probed:
                key = prefix + PROBE + secrets.token_hex(8).encode()
                if journal:
                    await journal.begun(key, "probe", self._now().isoformat())
                await self._find_out(key)
                self._probed.add(bucket)
                if journal:
                    await journal.over(key)
        return self.able(bucket)

    async def _find_out(self, key: bytes) -> None:
        bucket, _ = self._split(key)
        for header, wrong, name in (
            ("x-amz-checksum-crc64nvme", "AAAAAAAAAAE=", "crc64nvme"),
            ("content-md5", md5_of(b"another body"), "md5"),
        ):
            if await self._refuses(key, {header: wrong}):
                self._learn(bucket, checksum=name)
                break
        if not await self._refuses(key, {"if-match": '"no-such-etag"'}):
            self._learn(bucket, create_only=False)  # it takes no notice of conditions

    async def _refuses(self, key: bytes, headers: dict[str, str]) -> bool:
        """Whether a small write with these headers is refused.

        If it isn't, what it left is taken away.
        """
        body = b"pinecart asks whether checksums are verified here"
        bucket, name = self._split(key)
        payload = hashlib.sha256(body).hexdigest()
        full = headers | {"content-length": str(len(body))}

        async def one() -> HttpAnswer:
            answer = await self._ask("PUT", bucket, name, headers=full, body=body, payload=payload)
            if answer.status >= 500 and answer.status != 501:
                raise error_from(
                    answer.status, answer.headers, answer.body, what=f"Probing {self.name}"
                )
            return answer

        answer = await self._safely(one)
        if answer.status == 200:
            await self.remove_probe(key)
            return False
        error = error_from(answer.status, answer.headers, answer.body, what=f"Probing {self.name}")
        if answer.status == 403 or error.code == "store.no-bucket":
            raise error
        return answer.status in (400, 404, 409, 412, 501)

    async def clear_uploads(self, key: bytes, since: str) -> int:
        """Aborted, and looked for again.

        A probe of ours that was journalled like one is taken away.
        """
        if PROBE in key:
            await self.remove_probe(key)
            return 1
        return await self._clear_uploads(key, since)

    async def sweep(self, prefixes: Collection[bytes]) -> None:
        """Nothing is ever half written in a bucket; unfinished uploads are journalled."""

    def wrote(self, entry: Entry) -> None: ...

    def home(self, prefix: bytes) -> bytes:
        return b"" if self._root else prefix[: prefix.find(b"/") + 1]

    async def is_absent(self, key: bytes) -> bool:
        """A HEAD alone can't tell a missing key from a missing bucket: the listing of just this
        name has to agree.
        """
        bucket, name = self._split(key)
        if not await self._is_absent(key):
            return False
        page = await self._page(bucket, name, [("max-keys", "1")])
        return not any(e.key == b"" for e in page.entries)

    async def move(self, key: bytes, to: bytes, expected: Entry) -> Entry | None:
        return None

    async def remove(self, key: bytes, expected: Entry) -> bool:
        bucket, name = self._split(key)
        now = (await self.stat(key)).entry
        if (now.size, now.etag) != (expected.size, expected.etag):
            raise Taken(
                f"{self._named(key)} is not as it was when this was planned. It was not removed."
            )

        # Swift holds the condition against another ETag in a bucket that keeps versions; there
        # nothing is lost without it.
        keeps = await self.keeps_versions(key)
        headers = {} if keeps else {"if-match": f'"{expected.etag}"'}
        guards = not keeps and await self._guards_removals(bucket, name)

        async def one() -> None:
            answer = await self._ask("DELETE", bucket, name, headers=headers)
            if answer.status == 501:  # knows no conditions
                answer = await self._ask("DELETE", bucket, name)
            if answer.status not in (200, 204, 404):
                raise error_from(
                    answer.status, answer.headers, answer.body, what=f"Removing {self._named(key)}"
                )

        await self._safely(one)
        return guards

    async def _guards_removals(self, bucket: str, name: bytes) -> bool:
        """Whether a delete's condition is held: asked once, by deleting a name of ours that isn't
        there, under one.

        Not for a bucket that keeps versions: it might keep a mark of that delete.
        """
        if bucket not in self._removals_guarded:
            ours = name[: name.rfind(b"/") + 1] + PROBE + secrets.token_hex(8).encode()

            async def one(headers: dict[str, str]) -> int:
                answer = await self._ask("DELETE", bucket, ours, headers=headers)
                if answer.status >= 500 and answer.status != 501:
                    raise error_from(
                        answer.status, answer.headers, answer.body, what=f"Probing {self.name}"
                    )
                return answer.status

            status = await self._safely(lambda: one({"if-match": '"no-such-etag"'}))
            # Some stores answer 404 to any delete of what isn't there: then it says nothing of the
            # condition.
            guarded = status == 412 or (
                status == 404 and await self._safely(lambda: one({})) == 204
            )
            self._removals_guarded[bucket] = guarded
        return self._removals_guarded[bucket]

    async def tidy(self, prefix: bytes, key: bytes) -> None:
        """A bucket has no folders."""

    async def clock_difference_s(self) -> float | None:
        """Seconds between our clock and the last answer's Date; None if there was none."""
        told = self._transport.last_date
        return None if told is None else (self._now() - told).total_seconds()

    async def make_bucket(self, name: str) -> bool:
        if self._root:
            raise Refused(
                f"{self.name} is confined to {show(self._root)}: no buckets are made there.",
                code="bucket.confined",
            )
        body = b""
        if self._region != "us-east-1":
            place = f"<LocationConstraint>{self._region}</LocationConstraint>"
            body = f"<CreateBucketConfiguration>{place}</CreateBucketConfiguration>".encode()
        if (await self._ask("HEAD", name)).status == 200:
            return False
        payload = hashlib.sha256(body).hexdigest()
        answer = await self._ask(
            "PUT", name, headers={"content-length": str(len(body))}, body=body, payload=payload
        )
        if answer.status == 409 and b"BucketAlreadyOwnedByYou" in answer.body:
            return False
        if answer.status != 200:
            raise error_from(
                answer.status,
                answer.headers,
                answer.body,
                what=f"Making bucket {name!r} at {self.name}",
            )
        return True

    async def drop_bucket(self, name: str) -> None:
        if self._root:
            raise Refused(
                f"{self.name} is confined to {show(self._root)}: no buckets are dropped there.",
                code="bucket.confined",
            )
        page = await self._page(name, b"", [("max-keys", "1")])
        if page.entries or page.folders:
            raise Refused(
                f"Bucket {name!r} at {self.name} is not empty. Only an empty bucket is dropped.",
                code="bucket.not-empty",
            )
        await self._good("DELETE", name, what=f"Dropping bucket {name!r} at {self.name}", ok=204)

    async def remove_probe(self, key: bytes) -> None:
        """Take away a small object of our own, with all versions of it.

        Nothing else is ever deleted here.
        """
        if PROBE not in key:
            raise Unsafe(f"{show(key)} is not a probe of ours.")
        bucket, name = self._split(key)
        kept = (
            [v.version for v in await self.versions(key)]
            if await self._keeps_versions(bucket)
            else [""]
        )
        for version in kept:

            async def one(version: str = version) -> None:
                answer = await self._ask("DELETE", bucket, name, query=versioned(version))
                if answer.status not in (200, 204, 404):
                    what = f"Taking away our probe {self._named(key)}"
                    raise error_from(answer.status, answer.headers, answer.body, what=what)

            await self._safely(one)


def _after(key: bytes) -> Query:
    """Where a listing begins: under its name in version 2, and in version 1, which some stores only
    know.
    """
    return [("start-after", key), ("marker", key)]
