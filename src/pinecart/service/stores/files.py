"""Files to and from the viewer's own machine, two places side by side, and what
buckets there are.
"""

from __future__ import annotations

import asyncio
import tempfile
import time
import zipfile
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import aclosing, closing
from typing import IO, Any, NamedTuple, cast

from pinecart.core.checksum import Crc64
from pinecart.core.entries import Entry
from pinecart.core.errors import Refused, StoreError
from pinecart.core.keeping import Extra, Keep
from pinecart.core.places import Location, parse_location, show
from pinecart.core.ports import HELD_BYTES, Put, Store, WriteStamp
from pinecart.drivers import open_store
from pinecart.json_object import JsonObject
from pinecart.runner.name_folding import beside
from pinecart.runner.scratch import Scratch
from pinecart.runner.side import Side
from pinecart.service.config.rights import Actor, Right
from pinecart.service.config.settings import STATE
from pinecart.service.stores.selectors import (
    jobs_using_bucket,
    shows_buckets,
    spec_of,
    store_for,
)
from pinecart.service.stores.services.contents import MOST_IN_ARCHIVE, selected
from pinecart.service.stores.services.registering import remember_learned
from pinecart.service.trail.services import note

BUCKETS_AT_ONCE = 8


class Both(NamedTuple):
    """One name at two places. word: same-size, differs, only-here, only-there or name-clash."""

    key: bytes
    here: Entry | None
    there: Entry | None
    word: str


def side_by_side(
    actor: Actor, here: Location, there: Location, *, after: bytes, limit: int, only_different: bool
) -> tuple[list[Both], bytes]:
    """A page of both listings merged by name, and after which key to go on (empty: at the end).
    Raises StoreError.
    """
    specs = [
        spec_of(store_for(actor, place.store, Right.LOOK, "browsing")) for place in (here, there)
    ]

    async def look() -> tuple[list[Both], bytes]:
        stores = [open_store(spec) for spec in specs]
        try:
            left, right = (
                Side(s, p.as_prefix().path) for s, p in zip(stores, (here, there), strict=True)
            )
            found = list[Both]()
            async with aclosing(beside(left, right, Scratch(str(STATE.scratch)), after)) as both:
                async for some in both:
                    for key, one, other, clash in some:
                        if len(found) == limit:
                            return found, found[-1].key
                        word = "name-clash" if clash else _word(one, other)
                        if word != "same-size" or not only_different:
                            found.append(Both(key, one, other, word))
            return found, b""
        finally:
            for store in stores:
                await store.close()

    return asyncio.run(look())


def _word(here: Entry | None, there: Entry | None) -> str:
    if here is None or there is None:
        if here is None:
            return "only-there"
        return "only-here"
    if here.size == there.size:
        return "same-size"
    return "differs"


class Bucket(NamedTuple):
    name: str
    empty: bool | None
    jobs: list[str]


def buckets_of(actor: Actor, name: str) -> list[Bucket]:
    """All buckets that this key sees, whether each is empty (None: it may not be listed), and which
    jobs use it.
    """
    record = store_for(actor, name, Right.LOOK, "browsing")
    if not shows_buckets(record):
        raise Refused(
            f"{name} has no buckets to list: it is a folder, or confined to one.",
            code="bucket.no-buckets",
        )

    async def look(store: Store) -> list[tuple[str, bool | None]]:
        level = await store.level(b"", limit=1000)
        turn = asyncio.Semaphore(BUCKETS_AT_ONCE)

        async def one(bucket: bytes) -> tuple[str, bool | None]:
            """A bucket's name, and whether it is empty; None: this key may not look into it."""
            name = bucket.rstrip(b"/").decode()
            async with turn:
                try:
                    inner = await store.level(bucket, limit=1)
                except Refused:
                    return name, None
            is_empty = not (inner.folders or inner.entries)
            return name, is_empty

        looks = [one(bucket) for bucket in level.folders]
        found = await asyncio.gather(*looks)
        return list(found)

    found: list[tuple[str, bool | None]] = asyncio.run(_using(spec_of(record), look))
    return [Bucket(n, empty, jobs_using_bucket(name, n, actor)) for n, empty in found]


async def _using(spec: JsonObject, call: Callable[[Store], Any]) -> Any:
    store = open_store(spec)
    try:
        return await call(store)
    finally:
        await store.close()


class _Spooled:
    """Bytes that came from a viewer, in a file of ours, read like any opened object."""

    def __init__(self, file: IO[bytes], size: int) -> None:
        """file: an upload that didn't fit into memory, at its beginning.   size: in bytes."""
        self._file = file
        self.entry = Entry(b"", size, None)
        self.card: WriteStamp | None = None
        self.content_type = ""
        self.metadata: dict[str, str] = {}
        self.headers: dict[str, str] = {}

    async def look(self) -> None:
        """Nothing is kept with it."""

    async def whole(self) -> bytes:
        return await self.piece(0, self.entry.size)

    async def piece(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        self._file.seek(start)
        return self._file.read(size)

    async def chunks(self) -> AsyncIterator[bytes]:
        for at in range(0, self.entry.size, HELD_BYTES):
            yield await self.piece(at, HELD_BYTES)

    async def besides(self, keep: Keep) -> Extra:
        return Extra()

    async def verify(self, crc: str = "") -> None:
        """It is ours alone."""


def upload(actor: Actor, place: Location, body: Iterator[bytes], *, content_type: str) -> int:
    """Put a viewer's file where nothing is yet; gives its size.

    Raises Taken, StoreError, NotAllowed.
    """
    spec = spec_of(store_for(actor, place.store, Right.OPERATE, "uploading files"))
    if not place.path or place.path.endswith(b"/"):
        raise Refused(f"{place}: give the file's whole name.", code="location.no-name")
    with tempfile.TemporaryFile(dir=STATE.scratch) as file:
        crc = Crc64()
        size = 0
        for chunk in body:
            crc.add(chunk)
            size += file.write(chunk)
        source = _Spooled(file, size)

        async def put(store: Store) -> None:
            path = place.path
            folder, _, _ = path.rpartition(b"/")
            await store.probe(folder + b"/")
            card = WriteStamp("upload", time.time_ns(), crc.text)
            held = await source.whole() if size <= HELD_BYTES else source
            order = Put(path, size, held, card, if_absent=True, content_type=content_type)
            await store.put(order)
            now_known = store.learned()
            learned.update(now_known)

        learned: JsonObject = {}
        asyncio.run(_using(spec, put))
        if learned != spec["abilities"]:
            remember_learned(place.store, spec, learned)
    note(actor, "file.uploaded", str(place)[:200], bytes=size)
    return size


async def archive(
    actor: Actor, spec: JsonObject, prefix: bytes, keys: list[bytes]
) -> AsyncIterator[bytes]:
    """A ZIP of some files and folders below a place, written as it is sent.

    What it does not hold is told in it: LEFT-OUT.txt lists names that would not be safe to unpack
    and what could not be read, INCOMPLETE.txt says where it ends before its time.
    """
    store = open_store(spec)
    out = _Pipe()
    left_out = list[str]()
    files = 0
    try:
        with closing(
            zipfile.ZipFile(cast("IO[bytes]", out), "w", zipfile.ZIP_STORED, allowZip64=True)
        ) as made:
            try:
                async for entry in selected(store, prefix, keys):
                    if files == MOST_IN_ARCHIVE:
                        made.writestr(
                            "INCOMPLETE.txt",
                            f"This archive ends after {files:,} files. There are more.\n",
                        )
                        break
                    files += 1
                    if entry.fault or not _is_safe(entry.key):
                        left_out.append(f"{show(entry.key)}: this name can't be unpacked safely.")
                        continue
                    try:
                        async for _ in _added(made, store, prefix, entry):
                            yield out.taken()
                    except StoreError as failed:
                        left_out.append(
                            f"{show(entry.key)}: {failed.message} What lies here of it, if "
                            "anything, is cut."
                        )
            except StoreError as failed:
                made.writestr(
                    "INCOMPLETE.txt", f"This archive ends before its time: {failed.message}\n"
                )
            if left_out:
                made.writestr("LEFT-OUT.txt", "".join(f"{line}\n" for line in left_out))
        yield out.taken()
    finally:
        await store.close()


def _is_safe(key: bytes) -> bool:
    """Whether it can be unpacked below a folder, on every system."""
    name = key.decode("utf-8", "replace")
    return (
        not any(p in ("", ".", "..") for p in name.split("/"))
        and "\\" not in name
        and "\0" not in name
    )


async def _added(
    made: zipfile.ZipFile, store: Store, prefix: bytes, entry: Entry
) -> AsyncIterator[None]:
    """Add one file, piece by piece."""
    async with store.open(prefix + entry.key, entry) as reading:
        name = entry.key.decode("utf-8", "replace")
        with made.open(zipfile.ZipInfo(name, _dos_time(entry)), "w", force_zip64=True) as inner:
            async for chunk in reading.chunks():
                inner.write(chunk)
                yield


def _dos_time(entry: Entry) -> tuple[int, int, int, int, int, int]:
    at = time.gmtime(max((entry.modified_ns or 0) // 10**9, 315_532_800))
    return at[:6]


class _Pipe:
    """A file that can only be written on; what was written is taken away in pieces."""

    def __init__(self) -> None:
        self._held: list[bytes] = []
        self._at = 0

    def write(self, data: bytes) -> int:
        self._held.append(bytes(data))
        self._at += len(data)
        return len(data)

    def tell(self) -> int:
        return self._at

    def flush(self) -> None:
        """Nothing waits."""

    def taken(self) -> bytes:
        data = b"".join(self._held)
        self._held = []
        return data


def both_places(here: str, there: str) -> tuple[Location, Location]:
    return parse_location(here, field="here"), parse_location(there, field="there")
