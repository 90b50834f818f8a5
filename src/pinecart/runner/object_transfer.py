"""Carries one object from its source to its place, and proves it.

What may go wrong on the way, and what is done: a busy or cut line is tried again with growing
waits; after a lost answer the far side is asked first, and a twin (same decision id) is taken as
our own write; a source that changes while it is read is found before the write becomes visible,
tried three times, then listed.
"""

from __future__ import annotations

import asyncio
import mimetypes
import random
import time
from collections.abc import Callable
from contextlib import AbstractAsyncContextManager
from functools import lru_cache, partial
from typing import NamedTuple

from pinecart.core.batch import Carried, Parts, Sent
from pinecart.core.checksum import crc_of
from pinecart.core.entries import Entry, Row, fingerprint, is_racy, same
from pinecart.core.errors import Busy, Changed, Missing, StoreError, Taken
from pinecart.core.keeping import LINK, Keep, from_metadata, to_metadata
from pinecart.core.places import show
from pinecart.core.ports import (
    HELD_BYTES,
    Multipart,
    Placed,
    Put,
    Reading,
    ServerCopies,
    Shares,
    Stat,
    Store,
    Uploads,
    WriteStamp,
)
from pinecart.core.retry import Retry
from pinecart.runner.byte_budget import ByteBudget
from pinecart.runner.concurrency import Paced, Pacer
from pinecart.runner.content_comparison import content_crc
from pinecart.runner.decision_ids import decision_id
from pinecart.runner.progress import Progress
from pinecart.runner.read_once import ReadOnce
from pinecart.runner.side import Side

CHANGING_TRIES = 3
PARTS_AT_ONCE = 4  # of one batch of them
SMALL_AT_ONCE = 40 << 20  # bytes of small objects in memory, over all that are on their way …
LARGE_AT_ONCE = 64 << 20  # … and of the large ones, which don't make the small ones wait
LARGE_ROOM = 4 * HELD_BYTES  # what one large object takes of that: its pieces on their way


class TransferOptions(NamedTuple):
    """How the objects of one leg are carried.

    uploads: journals of the source's and the target's uploads in parts.
    through_us: never by the store, or the kernel, alone.
    changing_tries: so often a file that changes while it is read is tried.
    read_once: what other legs of this source have read; None: there are none.
    """

    run: int
    leg: int
    source: Side
    target: Side
    retry: Retry
    keep: Keep = Keep()
    uploads: tuple[Uploads | None, Uploads | None] = (None, None)
    pacer: Pacer | None = None
    through_us: bool = False
    changing_tries: int = CHANGING_TRIES
    read_once: ReadOnce | None = None


class ObjectTransfer:
    """Carries objects of one leg. shares: who sends parts of a large one as well."""

    def __init__(
        self,
        options: TransferOptions,
        *,
        shares: Callable[[bytes, Entry], Shares] | None = None,
        progress: Progress | None = None,
    ) -> None:
        self._run = options.run
        self._leg = options.leg
        self._source = options.source
        self._target = options.target
        self._retry = options.retry
        self._keep = options.keep
        self._uploads = options.uploads
        self._pacer = options.pacer or Pacer()
        self._changing_tries = options.changing_tries
        self._read_once = options.read_once
        self._may_copy = not options.through_us
        # Asked once: to ask a protocol for each small object costs 5 % of it.
        store = options.target.store
        self._copier = store if isinstance(store, ServerCopies) else None
        self._shares = shares
        self._progress = progress or Progress()
        self._keeps_metadata = self._has_folders = False
        self._probed = asyncio.Lock()
        self._ready = False
        self._small = ByteBudget(SMALL_AT_ONCE)
        self._large = ByteBudget(LARGE_AT_ONCE)

    async def transfer(
        self, key: bytes, entry: Entry, replaces: Entry | None, *, again: bool = False
    ) -> Carried:
        """Raises StoreError (with `tries` among its facts) when it can't be done.

        again: another process of this run may have carried it already, and not lived to say so.
        """
        if not self._ready:
            await self._probe_once()
        tried = 0
        expected = entry
        began = time.monotonic()
        while True:
            tried += 1
            try:
                return await self._attempt(key, expected, replaces, tried, again)
            except Missing as exc:
                exc.facts["tries"] = tried
                if await self._is_still_there(entry):  # then it is the target that lacks something
                    raise
                raise Missing(
                    f"{exc.message} It went away before it was copied.",
                    code="gone-meanwhile",
                    tries=tried,
                ) from exc
            except StoreError as exc:
                if not exc.retry or self._is_over(exc, tried, time.monotonic() - began):
                    exc.facts["tries"] = tried
                    raise
                if isinstance(exc, Changed):
                    now = (
                        await self._source.store.stat(self._source.prefix + entry.source_key)
                    ).entry
                    expected = now._replace(key=key, was=entry.was)
                await asyncio.sleep(
                    self._retry.wait_s(
                        tried, exc.wait_s if isinstance(exc, Busy) else None, random.random
                    )
                )

    async def _is_still_there(self, entry: Entry) -> bool:
        source = self._source
        try:
            return not await source.store.is_absent(source.prefix + entry.source_key)
        except StoreError:
            return True

    def _is_over(self, exc: StoreError, tried: int, seconds: float) -> bool:
        """A store that is away may come back; a source that changes, or a line that lies, is not
        waited for.
        """
        if isinstance(exc, Busy):
            return self._retry.is_over(tried, seconds)
        return tried >= (self._changing_tries if isinstance(exc, Changed) else self._retry.times)

    async def _probe_once(self) -> None:
        """Before the first object is written: what the target can do decides how."""
        async with self._probed:
            if not self._ready:
                able = await self._target.store.probe(self._target.prefix, self._uploads[1])
                self._keeps_metadata = able.keeps_metadata
                self._has_folders = able.has_folders
                self._ready = True

    async def _attempt(
        self, key: bytes, entry: Entry, replaces: Entry | None, tried: int, again: bool
    ) -> Carried:
        mark = decision_id(self._run, self._leg, entry, replaces)
        target = self._target.prefix + key
        if tried > 1 and (twin := await self._twin(self._target.store, target, mark, entry.size)):
            return self._carried(entry, twin, tried)
        try:
            if self._can_copy_alone(entry):
                placed = await self._within_one_system(key, entry, replaces, mark)
                if (
                    placed is not None and placed.lost == "tags"
                ):  # they are kept only on the way through us
                    self._may_copy = False
                    replaces = placed.entry
                    placed = None
                if placed is not None:
                    return self._carried(entry, placed, tried)
            room, wanted = self._room_for(entry.size)
            if not room.took(wanted):
                await room.wait_for(wanted)
            try:
                return await self._sent(key, entry, replaces, mark, tried)
            finally:
                room.give(wanted)
        except Taken:
            twin = await self._twin(self._target.store, target, mark, entry.size)
            if twin is None and self._can_copy_alone(entry):
                twin = await self._same_etag(self._target.store, target, entry)
            if twin is None and again:
                there = await self._same_content(
                    self._source.store,
                    self._source.prefix + entry.source_key,
                    entry,
                    self._target.store,
                    target,
                )
                twin = there and Placed(there[0], "read-back", crc=there[1])
            if twin is None:
                raise
            return self._carried(entry, twin, tried)

    async def _same_etag(self, store: Store, key: bytes, entry: Entry) -> Placed | None:
        """What lies there, if its own store says that it is this very object: a copy whose answer
        was lost, or as good as one.
        """
        try:
            stat = await store.stat(key)
        except StoreError:
            return None
        if not entry.etag or (stat.entry.size, stat.entry.etag) != (entry.size, entry.etag):
            return None
        return Placed(stat.entry, "server-copy", crc=stat.crc)

    async def _same_content(
        self, store: Store, key: bytes, entry: Entry, other: Store, there: bytes
    ) -> tuple[Entry, str] | None:
        """What lies `there`, and its checksum, if it has the content of this object: a folder keeps
        no card that would tell.
        """
        lies = (await other.stat(there)).entry
        if lies.size != entry.size:
            return None
        there_crc = await content_crc(other, there, lies)
        here_crc = await content_crc(store, key, entry)
        if here_crc == there_crc:
            return (lies, here_crc)
        return None

    def _room_for(self, size: int) -> tuple[ByteBudget, int]:
        """Where an object of this size waits for its bytes of memory, and how many they are."""
        if size > HELD_BYTES:
            return (self._large, LARGE_ROOM)
        return (self._small, size)

    async def _sent(
        self, key: bytes, entry: Entry, replaces: Entry | None, mark: str, tried: int
    ) -> Carried:
        """The bytes go through us."""
        target = self._target
        async with self._open(entry) as opened:
            self._progress.again(key)
            reading = self._paced(key, entry, opened)
            now = entry
            if reading.entry != entry:  # it may tell more than its listing did
                now = reading.entry._replace(key=key, was=entry.was)
                if not same(now, entry):
                    mark = decision_id(self._run, self._leg, now, replaces)
            whole = target.prefix + key
            put = await self._prepare(whole, reading, mark, replaces)
            if self._shares and put.size > HELD_BYTES:
                shares = self._shares(key, now)
                put = put._replace(shares=shares)
            placed = await target.store.put(put)
            if reading.headers and not self._keeps_metadata:
                lost = sorted(reading.headers)
                placed = placed._replace(lost=", ".join(lost))
            return self._carried(now, placed, tried)

    async def send_parts(self, parts: Parts, go_on: Callable[[], bool]) -> dict[int, Sent]:
        """Parts of an upload that another process has begun.

        What is missing here is tried again there, which meets its error.
        """
        if not self._ready:
            await self._probe_once()
        store = self._target.store
        target = self._target.prefix + parts.key
        sent = dict[int, Sent]()
        assert isinstance(store, Multipart)
        todo = iter(parts.numbers)

        async def work(reading: Reading) -> None:
            """The parts in turn, as long as the run goes on. One that fails is left to it, and
            those sent stay.
            """
            for number in todo:
                if not go_on():
                    return
                start = (number - 1) * parts.step
                length = min(parts.step, parts.entry.size - start)
                try:
                    body = await reading.piece(start, length)
                    etag, crc = await store.put_part(target, parts.upload, number, body)
                except StoreError:
                    return
                sent[number] = Sent(etag, crc)

        try:
            async with self._open(parts.entry) as reading:
                if not same(reading.entry, parts.entry):
                    return {}
                await reading.look()
                await asyncio.gather(*(work(reading) for _ in range(PARTS_AT_ONCE)))
                await reading.verify()
        except StoreError:  # it can't be opened, or has changed while it was read
            return {}
        return sent

    def _open(self, entry: Entry) -> AbstractAsyncContextManager[Reading]:
        """Where several legs have this source, it is read once for all of them."""
        key = self._source.prefix + entry.source_key
        opening = self._source.store.open(key, entry)
        if self._read_once:
            return self._read_once.opened(key, entry, opening)
        return opening

    def _carried(self, entry: Entry, placed: Placed, tried: int) -> Carried:
        racy = is_racy(entry, time.time_ns())
        row = Row(
            entry.key,
            fingerprint(entry),
            fingerprint(placed.entry),
            placed.crc,
            racy,
            run=self._run,
        )
        return Carried(placed, row, entry.size, tried, entry)

    def _can_copy_alone(self, entry: Entry) -> bool:
        if self._copier is None or not self._may_copy or entry.is_link:
            return False
        return self._copier.copies_from(self._source.store)

    async def _within_one_system(
        self, key: bytes, entry: Entry, replaces: Entry | None, mark: str
    ) -> Placed | None:
        """Let the store, or the kernel, copy by itself.

        None: it can't, and the bytes go through us.
        """
        source = self._source.store
        copier = self._copier
        card = WriteStamp(mark, entry.modified_ns if self._has_folders else None, "")
        put = Put(self._target.prefix + key, entry.size, b"", card, replaces is None, replaces)
        if self._keep.permissions or self._keep.attributes or self._keep.tags:
            async with self._open(entry) as reading:
                put = await self._with_extra(put, reading)
        put = put._replace(
            uploads=self._uploads[1],
            extra=put.extra._replace(storage_class=self._keep.storage_class),
        )
        assert copier is not None
        placed = await copier.copy(put, source, self._source.prefix + entry.source_key, entry)
        self._may_copy = placed is not None
        return placed

    async def keep_aside(self, key: bytes, far: Entry, new_key: bytes) -> None:
        """Give what lies there a second name, before the new one takes its place."""
        prefix = self._target.prefix
        await self.second(self._target.store, prefix + key, far, prefix + new_key)

    async def second(
        self, store: Store, key: bytes, entry: Entry, to: bytes, version: str = ""
    ) -> Entry:
        """A second copy of the object `key` as `to` in the same store (whole keys), where nothing
        is; ours from before is taken as it.
        """
        mark = decision_id(self._run, self._leg, entry._replace(key=to))
        try:
            put = Put(to, entry.size, b"", WriteStamp(mark, entry.modified_ns, ""), True)
            put = put._replace(uploads=self._uploads[store is self._target.store])
            placed = None
            if isinstance(store, ServerCopies):
                placed = await store.copy(put, store, key, entry, version)
            if placed is None:
                room, wanted = self._room_for(entry.size)
                if not room.took(wanted):
                    await room.wait_for(wanted)
                try:
                    async with store.open(key, entry, version=version) as reading:
                        prepared = await self._prepare(to, reading, mark, None)
                        own = prepared._replace(uploads=put.uploads)  # of this store's journal
                        placed = await store.put(own)
                finally:
                    room.give(wanted)
            return placed.entry
        except Changed as exc:
            message = f"{show(key)} is not as it was when this was planned. It was left alone."
            raise Taken(message) from exc
        except Taken:
            twin = await self._twin(store, to, mark, entry.size)
            if twin is None:
                twin = await self._same_etag(store, to, entry)
            if twin is not None:
                return twin.entry
            there = await self._same_content(store, key, entry, store, to)
            if there is None:
                raise
            return there[0]

    def _put(
        self,
        target: bytes,
        size: int,
        body: bytes | Reading,
        card: WriteStamp,
        replaces: Entry | None,
        of: Stat | Reading,
    ) -> Put:
        """target: the whole key.   of: what goes there, with its metadata and content type; where
        it has none, the name tells.
        """
        name = target.rpartition(b"/")[2]
        content_type = of.content_type or _type_of(name[name.find(b".") :] if b"." in name else b"")
        put = Put(target, size, body, card, replaces is None, replaces, content_type, of.metadata)
        if of.headers and self._keeps_metadata:
            return put._replace(headers=of.headers)
        return put

    def _paced(self, key: bytes, entry: Entry, opened: Reading) -> Reading:
        """Small files are neither slowed nor told piece by piece, unless there is a rate to
        keep.
        """
        if not self._pacer.rate and entry.size <= HELD_BYTES:
            return opened
        moved = partial(self._progress.moved, key)
        return Paced(opened, self._pacer, moved)

    async def _prepare(
        self, target: bytes, reading: Reading, mark: str, replaces: Entry | None
    ) -> Put:
        size = reading.entry.size
        if size > HELD_BYTES:
            await reading.look()
            card = reading.card
            known = card.crc if card else ""
            time_ns = card.modified_ns if card else reading.entry.modified_ns
            stamp = WriteStamp(mark, time_ns, known)
            put = self._put(target, size, reading, stamp, replaces, reading)
            put = put._replace(uploads=self._uploads[1])
            return await self._with_extra(put, reading)
        body = await reading.whole()
        if len(body) != size:
            raise Changed(
                f"{show(reading.entry.key)}: {size} bytes were listed, {len(body)} were read."
            )
        crc = crc_of(body)
        kept = reading.card if reading.card and reading.card.crc in ("", crc) else None
        card = WriteStamp(mark, kept.modified_ns if kept else reading.entry.modified_ns, crc)
        put = self._put(target, size, body, card, replaces, reading)
        if self._has_extra(put, reading):
            return await self._with_extra(put, reading)
        return put

    def _has_extra(self, put: Put, reading: Reading) -> bool:
        return any(self._keep) or reading.entry.is_link or LINK in put.metadata

    async def _with_extra(self, put: Put, reading: Reading) -> Put:
        """What is kept besides the bytes: as metadata in a bucket, as it was in a folder."""
        if not self._has_extra(put, reading):
            return put
        extra = await reading.besides(self._keep)
        kept = {**put.metadata, **to_metadata(extra)} if self._keeps_metadata else put.metadata
        told = from_metadata(put.metadata, self._keep)
        mode = told.mode if extra.mode is None else extra.mode
        extra = extra._replace(
            mode=mode, attributes=extra.attributes or told.attributes, link=extra.link or told.link
        )
        return put._replace(
            metadata=kept, extra=extra._replace(storage_class=self._keep.storage_class)
        )

    async def _twin(self, store: Store, key: bytes, mark: str, size: int) -> Placed | None:
        """What lies there, if it is our own write of this very decision, whose answer was lost."""
        try:
            stat = await store.stat(key)
        except StoreError:
            return None
        if stat.card is None or stat.card.decision_id != mark or stat.entry.size != size:
            return None
        verified = (await store.abilities(key)).checksum
        return Placed(
            stat.entry,
            "server-verified" if verified else "size-only",
            crc=stat.crc or stat.card.crc,
        )


@lru_cache(10_000)
def _type_of(ending: bytes) -> str:
    return (
        mimetypes.guess_type("x" + ending.decode("utf-8", "replace"))[0]
        or "application/octet-stream"
    )
