"""What lies in a store: buckets, levels, versions, and the bytes of one object or of many."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Sequence
from typing import Any

from pinecart.core.entries import Entry
from pinecart.core.errors import Invalid, Refused
from pinecart.core.keeping import Keep
from pinecart.core.places import Location, show
from pinecart.core.ports import Buckets, Level, Stat, Store, Version, Versions
from pinecart.core.selection import compile_selection
from pinecart.drivers import open_store
from pinecart.json_object import JsonObject
from pinecart.service.config.rights import Actor, Right
from pinecart.service.stores.models import StoreRecord
from pinecart.service.stores.selectors import (
    spec_of,
    store_for,
    store_named,
)
from pinecart.service.trail.services import note

HEAD_BYTES = 2048


def _with_buckets(store: Store, name: str) -> Buckets:
    """Raises Refused for a kind of store that has none."""
    if isinstance(store, Buckets):
        return store
    message = f"{name} has folders, not buckets."
    raise Refused(message, code="bucket.no-buckets")


def make_bucket(actor: Actor, name: str, bucket: str) -> bool:
    """True: made. False: was there already, nothing changed."""
    record = store_for(actor, name, Right.DEFINE, "making buckets")
    if not (
        3 <= len(bucket) <= 63
        and bucket.replace("-", "").replace(".", "").isalnum()
        and bucket == bucket.lower()
    ):
        message = (
            f"{bucket!r} can't be a bucket's name: 3 to 63 small letters, digits, hyphens and dots."
        )
        raise Invalid([{"field": "bucket", "code": "bucket.name", "message": message}])

    async def make(store: Store) -> bool:
        return await _with_buckets(store, name).make_bucket(bucket)

    made: bool = asyncio.run(_with(record, make))
    note(actor, "bucket.made" if made else "bucket.was-there", f"{name}/{bucket}")
    return made


def drop_bucket(actor: Actor, name: str, bucket: str) -> None:
    """Only an empty one. Raises Refused, Missing, NotFound."""
    actor.must(Right.ADMINISTER, [], "dropping buckets")

    async def drop(store: Store) -> None:
        buckets = _with_buckets(store, name)
        await buckets.drop_bucket(bucket)

    record = store_named(name)
    asyncio.run(_with(record, drop))
    note(actor, "bucket.dropped", f"{name}/{bucket}")


def versions_of(actor: Actor, name: str, key: bytes) -> Sequence[Version]:
    """The versions that a bucket keeps of one object, the newest first; none where it keeps none.

    Raises StoreError.
    """
    record = store_for(actor, name, Right.LOOK, "browsing")

    async def look(store: Store) -> Sequence[Version]:
        if not isinstance(store, Versions):
            return []
        return await store.versions(key)

    found: Sequence[Version] = asyncio.run(_with(record, look))
    return found


def first_bytes(
    actor: Actor, name: str, key: bytes, version: str = ""
) -> tuple[Stat, bytes, dict[str, str]]:
    """One object looked at closely, its first bytes, and its tags (none where the store knows none
    or won't tell).
    """
    record = store_for(actor, name, Right.LOOK, "browsing")

    async def look(store: Store) -> tuple[Stat, bytes, dict[str, str]]:
        """What is told of an object, its first bytes, and its tags, where this key may read
        them.
        """
        stat = await store.stat(key, version)
        async with store.open(key, stat.entry, version=version) as reading:
            if stat.entry.size:
                body = await reading.piece(0, min(HEAD_BYTES, stat.entry.size))
            else:
                body = b""
            try:
                tags = dict((await reading.besides(Keep(tags=True))).tags)
            except Refused:
                tags = {}
            return stat, body, tags

    found: tuple[Stat, bytes, dict[str, str]] = asyncio.run(_with(record, look))
    note(actor, "file.looked-at", str(Location(name, key)), version=version)
    return found


async def content_of(
    actor: Actor, spec: JsonObject, key: bytes, version: str = ""
) -> AsyncIterator[bytes]:
    """The whole of one object, in pieces, for the viewer's own machine."""
    store = open_store(spec)
    try:
        async with store.open(key, version=version) as reading:
            async for chunk in reading.chunks():
                yield chunk
    finally:
        await store.close()


def may_save(actor: Actor, name: str, key: bytes, version: str = "") -> tuple[JsonObject, Stat]:
    """Whether it is there and may be saved; recorded. Raises NotFound, NotAllowed, StoreError."""
    record = store_for(actor, name, Right.OPERATE, "saving files")
    stat = stat_at(actor, name, key, version)
    shown = show(key)
    which = f"{name}/{shown}"[:200]
    note(actor, "file.saved", which, bytes=stat.entry.size)
    spec = spec_of(record)
    return spec, stat


MOST_IN_ARCHIVE = 100_000


def may_archive(actor: Actor, name: str, path: bytes, keys: list[bytes]) -> JsonObject:
    """Whether a selection is there and may be saved; recorded.

    Raises NotFound, NotAllowed, Refused, StoreError.
    """
    record = store_for(actor, name, Right.OPERATE, "saving files")
    spec = spec_of(record)

    async def count(store: Store) -> int:
        n = 0
        async for _ in selected(store, path, keys):
            n += 1
            if n > MOST_IN_ARCHIVE:
                break
        return n

    if asyncio.run(_with(record, count)) > MOST_IN_ARCHIVE:
        message = (
            f"These are more than {MOST_IN_ARCHIVE:,} files: too many for one archive. Choose "
            "some of the folders; or let a job copy them to a folder."
        )
        raise Refused(message, code="archive.too-many")
    note(
        actor, "files.saved", f"{name}/{show(path)}"[:200], names=[show(k)[:200] for k in keys[:20]]
    )
    return spec


async def selected(store: Store, prefix: bytes, keys: list[bytes]) -> AsyncIterator[Entry]:
    """The files of a selection below a place, named from there: folders end in `/`; no keys:
    everything.
    """
    for key in keys or [b""]:
        if key and not key.endswith(b"/"):
            yield (await store.stat(prefix + key)).entry._replace(key=key)
            continue
        async for page in store.list(prefix + key):
            for entry in page:
                yield entry._replace(key=key + entry.key)


def look_at(
    actor: Actor,
    name: str,
    path: bytes,
    *,
    after: bytes,
    everything: bool,
    limit: int,
    match: str = "",
) -> Level:
    """One page of what lies at a place: this level, or all below, or of all below what matches.
    Raises StoreError.
    """
    selection = compile_selection([match] if match else [], [], {"ignore_case": True})
    record = store_for(actor, name, Right.LOOK, "browsing")

    async def look(store: Store) -> Level:
        if not everything:
            return await store.level(path, after=after, limit=limit)
        entries: list[Entry] = []
        async for page in store.list(path, after=after):
            entries += (
                page if selection.is_everything else [e for e in page if selection.takes(e.key)]
            )
            if len(entries) > limit:
                break
        return Level([], entries[:limit], entries[limit - 1].key if len(entries) > limit else b"")

    found: Level = asyncio.run(_with(record, look))
    return found


def stat_at(actor: Actor, name: str, key: bytes, version: str = "") -> Stat:
    """One object looked at closely. Raises StoreError."""
    record = store_for(actor, name, Right.LOOK, "browsing")

    async def look(store: Store) -> Stat:
        return await store.stat(key, version)

    found: Stat = asyncio.run(_with(record, look))
    return found


async def _with(record: StoreRecord, call: Any) -> Any:
    store = open_store(spec_of(record))
    try:
        return await call(store)
    finally:
        await store.close()
