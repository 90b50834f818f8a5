"""What the engine needs of a storage system. Drivers provide it, the runner uses it; the two never
meet otherwise.

Keys given to a store are whole keys (in a store that isn't confined to one bucket, the first part
is the bucket). Entries of a listing have keys relative to the listed prefix.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Awaitable, Callable, Collection, Mapping, Sequence
from contextlib import AbstractAsyncContextManager
from typing import Any, NamedTuple, Protocol, runtime_checkable

from pinecart.core.entries import Entry
from pinecart.core.folding import EXACT, Folding
from pinecart.core.keeping import Extra, Keep
from pinecart.json_object import JsonObject

# Up to here an object is held in memory whole; above, it goes in pieces of this size, or larger
# ones for the very large.
HELD_BYTES = 8 << 20


class Room(bytearray):
    """Where a piece of a large object is put. came: told of its bytes as they come; None: nobody
    asks.
    """

    came: Callable[[int], None] | None = None


class Abilities(NamedTuple):
    """What a store can do, found by behaviour. checksum: "crc64nvme", "md5" or "" (nothing seen to
    be verified).

    keeps_times: an entry's time is the file's own.   at_hand: its files lie on this machine:
    reading one is how its checksum is asked for, and somebody may still be writing it.   folding:
    which names are one and the same there.   time_step_ns: times nearer than this may be the same;
    0: all are kept.
    """

    checksum: str = ""
    create_only: bool = False
    has_folders: bool = False
    lists_ranges: bool = False
    keeps_times: bool = False
    keeps_metadata: bool = False
    at_hand: bool = False
    folding: Folding = EXACT
    time_step_ns: int = 0


# What belongs to an object of a bucket besides its type and its owner's metadata (RFC 9110, 9111):
# kept as it is.
HEADERS = (
    "cache-control",
    "content-disposition",
    "content-encoding",
    "content-language",
    "expires",
)


class WriteStamp(NamedTuple):
    """The `pinecart` metadata entry that goes with every write: who decided, the source's time, the
    content's checksum.
    """

    decision_id: str
    modified_ns: int | None
    crc: str

    def text(self) -> str:
        return f"id={self.decision_id};time={self.modified_ns or ''};crc64nvme={self.crc}"

    @classmethod
    def parse(cls, text: str | None) -> WriteStamp | None:
        """None for anything that isn't ours."""
        fields: dict[str, str] = {}
        for pair in (text or "").split(";"):
            name, _, value = pair.partition("=")
            fields[name] = value
        if not {"id", "time", "crc64nvme"} <= fields.keys():
            return None
        time = fields["time"]
        is_number = time.lstrip("-").isdigit()
        modified_ns = int(time) if is_number else None
        return cls(fields["id"], modified_ns, fields["crc64nvme"])


class Stat(NamedTuple):
    """One object looked at closely. crc: a full-object CRC-64/NVME that the store itself vouches
    for, or empty.

    headers: those of HEADERS that it has.
    """

    entry: Entry
    card: WriteStamp | None = None
    crc: str = ""
    content_type: str = ""
    metadata: dict[str, str] = {}
    storage_class: str = ""
    headers: dict[str, str] = {}


class Uploads(Protocol):
    """The journal of uploads in parts: what a killed run goes on with, and what is cleared away at
    its end.
    """

    async def begun(self, key: bytes, token: str, at: str) -> str:
        """Commit that an upload of `key` starts, by the server's date `at`. The id of one begun
        before for the same `token` (source and piece size), or empty.
        """
        ...

    async def named(self, key: bytes, upload: str) -> None: ...
    async def over(self, key: bytes) -> None: ...


OF_A_PROBE = "probe"  # the token of a small object by which it is asked what a bucket can do

# Sends parts of one upload: (upload, size of a part, numbers from 1) → number → (ETag, CRC). What
# is missing wasn't sent.
Sender = Callable[[str, int, Sequence[int]], Awaitable[Mapping[int, tuple[str, str]]]]


class Shares(Protocol):
    """Other processes that send parts of one large object beside this one."""

    def free(self, step: int) -> Sender | None:
        """One that has room for parts of this size now, which is then to be asked; None: nobody."""
        ...


class Put(NamedTuple):
    """A write. if_absent: create only. expected: replace only this. Neither: the caller has looked
    just before.

    body: the bytes; or, above HELD_BYTES, the opened source, read in pieces, several at once, and
    verified before the step that makes the object visible. card.crc may then be empty: the answer
    has it.
    """

    key: bytes
    size: int
    body: bytes | Reading
    card: WriteStamp
    if_absent: bool = False
    expected: Entry | None = None
    content_type: str = ""
    metadata: Mapping[str, str] = {}
    extra: Extra = Extra()
    uploads: Uploads | None = None
    shares: Shares | None = None
    headers: Mapping[str, str] = {}


class Placed(NamedTuple):
    """What a write left. proof: "server-verified", "read-back", "server-copy" or "size-only".
    crc: of its content.

    lost: what of the object the store was seen not to keep, in words; empty: nothing.
    left: what of the one before is still there, and why, in words; empty: nothing.
    """

    entry: Entry
    proof: str
    guarded: bool = True
    crc: str = ""
    lost: str = ""
    left: str = ""


class Reading(Protocol):
    """An object opened for reading, pinned to one content.

    card, content_type, metadata, headers: what the store keeps with it, known after `look`, or once
    the whole has come.
    """

    @property
    def entry(self) -> Entry: ...
    @property
    def card(self) -> WriteStamp | None: ...
    @property
    def content_type(self) -> str: ...
    @property
    def metadata(self) -> dict[str, str]: ...
    @property
    def headers(self) -> dict[str, str]: ...

    async def look(self) -> None:
        """Learn what is kept with it, before any of its bytes."""
        ...

    async def whole(self) -> bytes:
        """All of it. Raises Corrupt unless it came as the store has it."""
        ...

    async def piece(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        """`size` bytes from `start`, of this one content. May be asked for several at once.

        into: room for at least HELD_BYTES that may be used for them; the answer is then a view of
        it, good until it is used again.
        """
        ...

    def chunks(self) -> AsyncIterator[bytes]: ...
    async def besides(self, keep: Keep) -> Extra:
        """What of `keep` the store itself holds for it; what is kept as metadata
        is in `metadata`.
        """
        ...

    async def verify(self, crc: str = "") -> None:
        """Raises Changed unless the object is still as it was opened; and Corrupt unless `crc`, of
        all that was read of it in pieces, is vouched for by the store, the line, or a second
        reading.
        """
        ...


class Level(NamedTuple):
    """One level of a place: names of folders (or buckets) and entries, and where to go on (empty:
    at the end).
    """

    folders: list[bytes]
    entries: list[Entry]
    after: bytes = b""


class Version(NamedTuple):
    """One version of an object that its bucket keeps.

    is_removal: the mark of a delete; it has no bytes.
    """

    version: str
    size: int
    modified_ns: int | None
    is_current: bool
    is_removal: bool
    etag: str = ""


class Store(Protocol):
    """One storage system, reached with one set of credentials: what every kind of store has. What
    only some have are the protocols after it. Raises core.errors.StoreError and its children.

    most_at_once: so many requests, or files, at once; 0: as many as bring more. It may be changed
    at any time.
    """

    most_at_once: int

    async def abilities(self, prefix: bytes) -> Abilities:
        """What is known without writing anything."""
        ...

    async def probe(self, prefix: bytes, journal: Uploads | None = None) -> Abilities:
        """Find out by behaviour, writing (and taking away) a small object of our own below
        `prefix`: once for each bucket.

        journal: where it is written down until it is gone.
        """
        ...

    def learned(self) -> JsonObject:
        """What was found out by behaviour, as JSON, to be given to the next one that opens this
        store.
        """
        ...

    def waits_for(self) -> str:
        """What it is that nothing moves for, in a sentence; empty: it answers."""
        ...

    def unfit(self, key: bytes) -> str:
        """Why no object can have this name here, in a sentence; empty: it can."""
        ...

    @property
    def rests_s(self) -> float:
        """So many seconds from now on nothing is asked of it, since it asked for that; 0 or less:
        it doesn't rest.
        """
        ...

    def rest(self, seconds: float) -> None:
        """Ask nothing of it for so long; it asked that of another run."""
        ...

    def identity(self, prefix: bytes) -> str:
        """What makes this place the same place again: endpoint, bucket, prefix, or
        device and root.
        """
        ...

    def list(
        self, prefix: bytes, *, after: bytes = b"", folders: str = ""
    ) -> AsyncIterator[Sequence[Entry]]:
        """Pages of everything below `prefix`, strictly ascending by relative key, from after
        `after` on.

        folders: "all" or "empty" ones are entries too where the store has any (their key ends in
        `/`); else none.
        """
        ...

    async def level(self, prefix: bytes, *, after: bytes = b"", limit: int = 1000) -> Level: ...
    async def stat(self, key: bytes, version: str = "") -> Stat: ...
    def open(
        self, key: bytes, expected: Entry | None = None, *, version: str = ""
    ) -> AbstractAsyncContextManager[Reading]: ...
    async def put(self, put: Put) -> Placed: ...
    def home(self, prefix: bytes) -> bytes:
        """Where things are set aside: the root of the folder, or of the bucket that `prefix` lies
        in.
        """
        ...

    async def is_absent(self, key: bytes) -> bool:
        """True only where the store definitely says that there is no such object.

        What can't be said is raised.
        """
        ...

    async def remove(self, key: bytes, expected: Entry) -> bool:
        """Delete exactly this object.

        True: guarded by the store; False: looked at just before. Raises Taken, Missing.
        """
        ...

    async def check_place(self, prefix: bytes) -> None:
        """Raises Missing or Refused unless the bucket or root of `prefix` is there and is the one
        remembered.
        """
        ...

    async def close(self) -> None: ...


@runtime_checkable
class Versions(Protocol):
    """A store that may keep what is overwritten or deleted."""

    async def keeps_versions(self, key: bytes) -> bool:
        """Whether what is overwritten or deleted at `key` stays as a version.

        False as well where that can't be asked.
        """
        ...

    async def versions(self, key: bytes) -> Sequence[Version]:
        """Of exactly this key, the newest first, 1 000 at most; none where the store keeps none."""
        ...


@runtime_checkable
class Multipart(Protocol):
    """A store that makes a large object of parts, which any process that knows the upload may
    send.
    """

    async def put_part(self, key: bytes, upload: str, number: int, body: bytes) -> tuple[str, str]:
        """One part, numbered from 1. Its ETag and CRC."""
        ...


@runtime_checkable
class ClearsUploads(Protocol):
    """A store in which a large object may be left unfinished, for a later process to go on with."""

    async def clear_uploads(self, key: bytes, since: str) -> int:
        """Take away unfinished uploads of exactly this key that were begun at or after the server's
        date `since`.
        """
        ...


@runtime_checkable
class Renames(Protocol):
    """A store where an object gets another name without being copied."""

    async def move(self, key: bytes, to: bytes, expected: Entry) -> Entry:
        """Another name for exactly this object, where nothing is yet. Raises Taken, Missing."""
        ...


@runtime_checkable
class Folders(Protocol):
    """A store with real folders, in which a file is written under a hidden name first."""

    async def tidy(self, prefix: bytes, key: bytes) -> None:
        """Take away the folders above `key`, and below `prefix`, that have become empty."""
        ...

    async def sweep(self, prefixes: Collection[bytes]) -> None:
        """Take away what this very run, in a process that is no more, left half written just below
        these.
        """
        ...

    def wrote(self, entry: Entry) -> None:
        """Another process of this run has placed this: it is as if it were put here."""
        ...


@runtime_checkable
class ServerCopies(Protocol):
    """A store that copies by itself: the bytes never come to us."""

    def copies_from(self, source: Store) -> bool:
        """Whether `copy` may work: both are one system."""
        ...

    async def copy(
        self, put: Put, source: Store, source_key: bytes, entry: Entry, version: str = ""
    ) -> Placed | None:
        """The same as `put` without the bytes passing through us; `put.body` isn't looked at. None:
        the store won't.

        What is kept with an object of a bucket goes along as it is.
        """
        ...


@runtime_checkable
class Buckets(Protocol):
    """A store whose first level is buckets."""

    async def make_bucket(self, name: str) -> bool:
        """True: made. False: was there already, and is ours."""
        ...

    async def drop_bucket(self, name: str) -> None:
        """Only an empty one. Raises Refused (code "bucket.not-empty"), Missing."""
        ...


@runtime_checkable
class Appends(Protocol):
    """A store whose files grow at their end."""

    def open_to_append(self, key: bytes) -> int:
        """A descriptor; the file, and its folders, are made where there are none.

        Raises StoreError, OSError.
        """
        ...


class OwnSum(NamedTuple):
    """A checksum as a store makes it itself. made: how, the layout of what it is made of included.
    Equal ones are of equal content; of different ones nothing follows.
    """

    made: str
    value: str


@runtime_checkable
class OwnSums(Protocol):
    """A store that makes checksums of its own."""

    async def own_sum(self, key: bytes, expected: Entry) -> OwnSum | None:
        """None: it makes none that proves anything. Raises Changed when another file is there."""
        ...


@runtime_checkable
class CountsRequests(Protocol):
    """A store that is asked over a line."""

    @property
    def requests_sent(self) -> int:
        """Since it was opened, those tried again counted too."""
        ...


@runtime_checkable
class RenewsKey(Protocol):
    """A store that takes up a new key while it is open."""

    def renew(self, spec: Mapping[str, Any]) -> None:
        """From the next request on."""
        ...
