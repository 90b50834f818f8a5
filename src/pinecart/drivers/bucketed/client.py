"""Requests to a store of buckets and objects: what is the same whatever the protocol."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping, Sequence
from contextlib import asynccontextmanager
from datetime import UTC, datetime, timedelta
from functools import partial
from typing import Any, NamedTuple, TypeVar

from pinecart.core.entries import Entry
from pinecart.core.errors import Busy, Changed, Missing, Refused, StoreError, Taken, Unsafe
from pinecart.core.places import show
from pinecart.core.ports import HEADERS, Stat, WriteStamp
from pinecart.core.retry import Retry
from pinecart.drivers.bucketed.wire import number
from pinecart.drivers.busy_retries import BusyRetries
from pinecart.drivers.driver_spec import as_prefix
from pinecart.drivers.http_message import HttpAnswer, Pieces, part_told
from pinecart.drivers.transport import REST_S, Transport

T = TypeVar("T")
Query = list[tuple[str, str | bytes]]
Prepared = tuple[
    str, dict[str, str]
]  # what is asked for, encoded, and the headers as they are sent
PAST_ALL = b"\xf4\x8f\xbf\xbf"  # the last letter there is: past all that lies in a folder
PART = 206
NOT_MET = 412  # a condition
PAST_ITS_END = 416
GONE = (200, 204, 404)  # what a removal answers, whether or not there was anything


class ObjectTold(NamedTuple):
    """What an answer tells of an object besides its bytes. crc, md5 (hex): of the whole of it,
    which the store itself vouches for; empty: none.
    """

    card: WriteStamp | None
    content_type: str
    metadata: dict[str, str]
    headers: dict[str, str]
    crc: str = ""
    md5: str = ""

    def stat(self, entry: Entry, storage_class: str = "") -> Stat:
        return Stat(
            entry,
            self.card,
            self.crc,
            self.content_type,
            self.metadata,
            storage_class,
            self.headers,
        )


class Dialect(NamedTuple):
    """How a protocol calls what all have. metadata: what the names of such headers begin with.
    version: in a query.   version_told, tier_told: headers; empty: it has no such thing.   looks:
    headers of whoever asks for an object.
    """

    metadata: str
    version: str
    version_told: str
    tier_told: str = ""
    looks: Mapping[str, str] = {}


class BucketClient(ABC):
    """Of one endpoint, with one set of credentials.

    root: what it is confined to, as `bucket/prefix/`; empty: all buckets.   system: which endpoint
    and credentials; two clients of one system may copy from each other.
    """

    dialect: Dialect
    longest_key = 1024  # bytes
    system: tuple[Any, ...]

    def __init__(
        self,
        name: str,
        transport: Transport,
        *,
        root: str = "",
        retry: Retry = Retry(),
        now: Callable[[], datetime] = lambda: datetime.now(UTC),
    ) -> None:
        self.name = name
        self._transport = transport
        self.root = as_prefix(root.encode().strip(b"/"))
        self.retry = retry
        self.now = now
        self._retries = BusyRetries(retry)
        self._reads_under_condition = True

    # --- what each protocol has

    @abstractmethod
    def prepared(
        self,
        method: str,
        bucket: str,
        key: bytes,
        query: Query,
        headers: Mapping[str, str],
        payload: str = "",
    ) -> Prepared:
        """payload: what is signed for a body, where that is signed; empty: that of none."""

    @abstractmethod
    def error_from(
        self, status: int, headers: Mapping[str, str], body: bytes, *, what: str
    ) -> StoreError:
        """What an answer that is none of the good ones means. what: location and action."""

    @abstractmethod
    async def tags(self, key: bytes) -> dict[str, str]:
        """Raises Refused (code "store.no-tags") where the store knows none."""

    @abstractmethod
    def renew(self, spec: Mapping[str, Any]) -> None:
        """Take up new credentials, from the next request on."""

    @abstractmethod
    async def ready(self) -> None:
        """What has to be done before a request, such as signing in."""

    def may_be_of_parts(self, etag: str) -> bool:
        """Whether `etag_of_parts` may give it."""
        return False

    def etag_of_parts(self, md5s: Sequence[bytes]) -> str:
        """The ETag of an object that was made of parts with these MD5s; empty: it tells nothing of
        them.
        """
        return ""

    def arrived(self, answer: HttpAnswer, sent: Mapping[str, str]) -> None:
        """After each answer, but a good one that is streamed. sent: the headers of its request."""
        if answer.status not in (429, 503):
            return
        retry = self.retry
        usual_s = min(REST_S, retry.longest_s, retry.first_s * 5)
        asked = answer.headers.get("Retry-After", "")
        self._transport.slow_down(asked, usual_s)

    def told(self, headers: Mapping[str, str]) -> ObjectTold:
        """Of an answer that brings an object, or a part of it."""
        metadata = metadata_of(headers, self.dialect.metadata)
        card = WriteStamp.parse(metadata.pop("pinecart", None))
        kept = {name: value for name in HEADERS if (value := headers.get(name))}
        return ObjectTold(card, headers.get("Content-Type", ""), metadata, kept)

    # --- asking

    async def ask(
        self,
        method: str,
        bucket: str,
        key: bytes = b"",
        *,
        query: Query | None = None,
        headers: Mapping[str, str] | None = None,
        body: bytes | Pieces = b"",
        payload: str = "",
    ) -> HttpAnswer:
        """One request, whatever is answered."""
        await self.ready()
        given = dict(headers or {})
        if method == "PUT":
            given["content-length"] = str(len(body))
        target, sent = self.prepared(method, bucket, key, query or [], given, payload)
        answer = await self._transport.ask(method, target, sent, body or None)
        self.arrived(answer, sent)
        return answer

    async def good(
        self, method: str, bucket: str, key: bytes = b"", *, what: str, ok: int = 200, **rest: Any
    ) -> HttpAnswer:
        """An answer of the status that is wanted, once asked; any other is raised as what it means,
        with `what` as its subject.
        """
        answer = await self.ask(method, bucket, key, **rest)
        if answer.status != ok:
            raise self.error_of(answer, what=what)
        return answer

    async def safely(self, call: Callable[[], Awaitable[T]], *, corrupted_too: bool = False) -> T:
        """Repeat a request that changes nothing."""
        return await self._retries.safely(call, corrupted_too=corrupted_too)

    def versioned(self, version: str) -> Query:
        if version:
            return [(self.dialect.version, version)]
        return []

    async def must_still_be(self, key: bytes, expected: Entry) -> Mapping[str, str]:
        """What is to be removed; the headers that told of it. Raises Taken, Missing."""
        there, told = await self.look(key)
        if (there.entry.size, there.entry.etag) != (expected.size, expected.etag):
            named = self.named(key)
            message = f"{named} is not as it was when this was planned. It was not removed."
            raise Taken(message)
        return told

    async def look(self, key: bytes, version: str = "") -> tuple[Stat, Mapping[str, str]]:
        """And the headers that told it."""
        bucket, name = self.split(key)
        what = f"Looking at {self.named(key)}"
        query = self.versioned(version)
        ask = partial(self.good, "HEAD", bucket, name, query=query, what=what)
        told = (await self.safely(partial(ask, headers=self.dialect.looks))).headers
        entry = Entry(
            key,
            number(told.get("Content-Length"), "size"),
            None,
            told.get("ETag", "").strip('"'),
            told.get(self.dialect.version_told, ""),
        )
        tier = told.get(self.dialect.tier_told, "") if self.dialect.tier_told else ""
        return self.told(told).stat(entry, tier), told

    async def stat(self, key: bytes, version: str = "") -> Stat:
        return (await self.look(key, version))[0]

    async def is_absent(self, key: bytes) -> bool:
        try:
            await self.stat(key)
        except Missing:
            return True
        return False

    def _getting(
        self, key: bytes, etag: str, start: int, last: int | None, version: str
    ) -> tuple[int, Prepared]:
        """The status of a right answer, and how the bytes from `start` to `last` (None: the end) of
        just this content are asked for (RFC 9110, section 14).
        """
        wanted = 200
        headers = dict(self.dialect.looks)
        if self._reads_under_condition:
            headers["if-match"] = f'"{etag}"'
        if start > 0 or last is not None:
            wanted = PART
            end = "" if last is None else last
            headers["range"] = f"bytes={start}-{end}"
        bucket, name = self.split(key)
        query = self.versioned(version)
        return wanted, self.prepared("GET", bucket, name, query, headers)

    @asynccontextmanager
    async def get(
        self, key: bytes, etag: str, start: int, version: str = ""
    ) -> AsyncIterator[tuple[Mapping[str, str], AsyncIterator[bytes]]]:
        """Headers and bytes, from `start` on, of just this content. Raises StoreError."""
        await self.ready()
        wanted, prepared = self._getting(key, etag, start, None, version)
        target, sent = prepared
        asking = self._transport.streamed("GET", target, sent)
        async with asking as (status, found, chunks):
            if status == wanted:
                self._must_be_of(etag, found, key)
                if wanted == PART:
                    self._must_be_part(found, start, None, key)
                yield found, chunks
                return
            body = b"".join([chunk async for chunk in chunks])
        answer = HttpAnswer(status, found, body)
        if not (status == NOT_MET and await self._misjudges(sent, key, etag, version)):
            self._must_be(wanted, answer, sent, key)
        async with self.get(key, etag, start, version) as again:
            yield again

    async def get_at_once(
        self,
        key: bytes,
        entry: Entry,
        start: int = 0,
        last: int | None = None,
        version: str = "",
        into: bytearray | None = None,
    ) -> HttpAnswer:
        """What is taken whole: a small object, or a piece of a large one."""
        await self.ready()
        wanted, prepared = self._getting(key, entry.etag, start, last, version)
        target, sent = prepared
        most = max(entry.size if last is None else last - start + 1, 1 << 20)
        answer = await self._transport.ask("GET", target, sent, most=most, into=into)
        not_met = answer.status == NOT_MET
        if not_met and await self._misjudges(sent, key, entry.etag, version):
            return await self.get_at_once(key, entry, start, last, version, into)
        self._must_be(wanted, answer, sent, key)
        self._must_be_of(entry.etag, answer.headers, key)
        if wanted == PART:
            self._must_be_part(answer.headers, start, last, key)
        return answer

    async def _misjudges(
        self, sent: Mapping[str, str], key: bytes, etag: str, version: str
    ) -> bool:
        """Whether If-Match was refused although just this is there: some stores hold it against
        another ETag than they tell. From then on the ETag of each answer is what is looked at.
        """
        if "if-match" not in sent:
            return False
        now = await self.stat(key, version)
        if now.entry.etag != etag:
            return False
        self._reads_under_condition = False
        return True

    def _must_be_of(self, etag: str, headers: Mapping[str, str], key: bytes) -> None:
        """Also under a condition: not every store takes notice of it. One that tells no ETag has
        to.
        """
        told = headers.get("ETag", "").removeprefix("W/").strip('"')
        is_untold = not told and self._reads_under_condition
        if told != etag and not is_untold:
            raise self._changed(key)

    def _must_be_part(
        self, headers: Mapping[str, str], start: int, last: int | None, key: bytes
    ) -> None:
        """That what came lies where it was asked for, as far as it is told."""
        part = part_told(headers)
        if part and (part.first != start or (last is not None and part.last != last)):
            message = f"{self.named(key)}: another part came than was asked for."
            raise Busy(message, code="store.garbled")

    def _changed(self, key: bytes) -> Changed:
        named = self.named(key)
        return Changed(f"{named} changed while it was read. It is tried again in the next run.")

    def _must_be(
        self, wanted: int, answer: HttpAnswer, sent: Mapping[str, str], key: bytes
    ) -> None:
        """Raises Changed where the object is no longer as it was listed, or has become shorter than
        the part that was asked for.
        """
        self.arrived(answer, sent)
        if answer.status in (NOT_MET, PAST_ITS_END):
            raise self._changed(key)
        if answer.status != wanted:
            raise self.error_of(answer, what=f"Reading {self.named(key)}")

    # --- what is the same for all

    def error_of(self, answer: HttpAnswer, *, what: str) -> StoreError:
        return self.error_from(answer.status, answer.headers, bytes(answer.body), what=what)

    @property
    def rests_s(self) -> float:
        return self._transport.rests_s

    def rest(self, seconds: float) -> None:
        self._transport.rest(seconds)

    @property
    def requests_sent(self) -> int:
        return self._transport.sent

    def waits_for(self) -> str:
        """In words; empty: it answers."""
        return self._transport.waits_for(self.name) or self._retries.waits_for(self.name)

    @property
    def last_date(self) -> datetime | None:
        """The Date of the last answer that had one."""
        return self._transport.last_date

    def journal_date(self) -> str:
        """What is begun from now on is no older, as the store tells it: in whole seconds, by its
        own clock where that is known, and by those of its machines that go a second behind.
        """
        date = self.last_date or self.now()
        whole = date.replace(microsecond=0)
        return (whole - timedelta(seconds=1)).isoformat()

    @property
    def origin(self) -> str:
        return self._transport.origin

    @property
    def is_safe(self) -> bool:
        """Whether the line itself sees to it that bytes arrive as they were sent."""
        return self._transport.is_tls

    @property
    def most_at_once(self) -> int:
        return self._transport.most_at_once

    @most_at_once.setter
    def most_at_once(self, most: int) -> None:
        self._transport.most_at_once = most

    def named(self, key: bytes) -> str:
        return f"pine://{self.name}/{show(key)}"

    def split(self, key: bytes) -> tuple[str, bytes]:
        """Bucket, and the object's name in it. Raises Unsafe for what is no text."""
        bucket, _, name = (self.root + key).partition(b"/")
        try:
            name.decode()
            return bucket.decode("ascii"), name
        except UnicodeDecodeError:
            raise Unsafe(self.no_text(key)) from None

    def unfit(self, key: bytes) -> str:
        name = (self.root + key).partition(b"/")[2]
        if len(name) > self.longest_key:
            return (
                f"{show(key)[:80]}… has {len(name):,} bytes, and a bucket takes "
                f"{self.longest_key:,} at most. Shorten it, or by a rule on the way."
            )
        try:
            name.decode()
        except UnicodeDecodeError:
            return self.no_text(key)
        return ""

    def no_text(self, key: bytes) -> str:
        return (
            f"{self.named(key)}: a bucket store takes only names that are UTF-8 text. Rename the "
            "file."
        )

    async def close(self) -> None:
        await self._transport.close()


def no_tags(name: str) -> Refused:
    return Refused(
        f"Store {name} knows no tags. Leave tags out of what is kept.", code="store.no-tags"
    )


def metadata_of(headers: Mapping[str, str], start: str) -> dict[str, str]:
    """start: of the names of such headers, in small letters."""
    skip = len(start)
    return {k[skip:].lower(): headers[k] for k in headers if k.lower().startswith(start)}
