"""What every driver must do.

A driver's test class supplies the fixture `store` and inherits the rest.
"""

from __future__ import annotations

import pytest

from pinecart.core.checksum import crc_of
from pinecart.core.entries import fingerprint
from pinecart.core.errors import Changed, Corrupt, Missing, Taken
from pinecart.core.listing import Ascending
from pinecart.core.ports import HELD_BYTES, Put, ServerCopies, Store, WriteStamp
from pinecart.drivers.folder.store import FolderStore

AT = b"larkfell/"  # every test works below this prefix; in a bucket store it is the bucket
ODD = b"b c+%#?&"
NAMES = [
    b"a.txt",
    b"a/b",
    b"a/" + ODD,
    "a/é.flac".encode(),
    b"a0",
    b"n" * 200,
    b"sheets/" + b"s" * 100 + b"/x",
]


async def put(store: Store, name: bytes, body: bytes, *, at: bytes = AT, **kwargs):
    card = WriteStamp("d1", 1_700_000_000_123_456_789, crc_of(body))
    return await store.put(Put(at + name, len(body), body, card, **kwargs))


async def names(store: Store, prefix: bytes = AT, after: bytes = b"") -> list[bytes]:
    found = []
    check = Ascending("test")
    async for page in store.list(prefix, after=after):
        found += [e.key for e in check.check(page)]
    return found


class StoreContract:
    at = AT  # every test works below it
    odd = ODD
    keeps_neither = False  # metadata or times: it is known from the ledger what was copied

    @property
    def held(self):
        return [name.replace(ODD, self.odd) for name in NAMES]

    async def put(self, store, name, body, **kwargs):
        return await put(store, name, body, at=self.at, **kwargs)

    async def names(self, store, prefix=None, after=b""):
        return await names(store, self.at if prefix is None else prefix, after)

    async def take_away(self, store, name, entry):
        """As somebody else would."""
        await store.remove(self.at + name, entry)

    async def test_every_name_arrives_and_lists_in_byte_order(self, store):
        for name in reversed(self.held):
            await self.put(store, name, b"x" + name, if_absent=True)
        assert await self.names(store) == sorted(self.held)
        assert await self.names(store, self.at + b"a/") == [b"b", self.odd, "é.flac".encode()]
        for name in self.held:
            async with store.open(self.at + name) as reading:
                assert await reading.whole() == b"x" + name

    async def test_a_listing_goes_on_after_any_key(self, store):
        for name in self.held:
            await self.put(store, name, b"")
        for i, name in enumerate(sorted(self.held)):
            assert await self.names(store, after=name) == sorted(self.held)[i + 1 :]

    async def test_a_levels_pages_hold_each_name_once(self, store):
        for name in self.held:
            await self.put(store, name, b"")
        found, after = [], b""
        while True:
            level = await store.level(self.at, after=after, limit=2)
            found += level.folders + [e.key for e in level.entries]
            if not (after := level.after):
                break
        assert sorted(found) == [b"a.txt", b"a/", b"a0", b"n" * 200, b"sheets/"]

    async def test_a_write_leaves_the_fingerprint_that_a_listing_shows(self, store):
        placed = await self.put(store, b"x", b"song", if_absent=True)
        pages = [page async for page in store.list(self.at)]
        assert fingerprint(pages[0][0]) == fingerprint(placed.entry)
        assert fingerprint((await store.stat(self.at + b"x")).entry) == fingerprint(placed.entry)

    async def test_create_only_never_replaces(self, store):
        await self.put(store, b"x", b"first", if_absent=True)
        with pytest.raises(Taken):
            await self.put(store, b"x", b"second", if_absent=True)
        async with store.open(self.at + b"x") as reading:
            assert await reading.whole() == b"first"

    async def test_replace_only_what_is_as_planned(self, store):
        first = (await self.put(store, b"x", b"first")).entry
        second = (await self.put(store, b"x", b"second!", expected=first)).entry
        with pytest.raises(Taken):
            await self.put(store, b"x", b"third", expected=first)
        async with store.open(self.at + b"x") as reading:
            assert (await reading.whole(), reading.entry.size) == (b"second!", second.size)
        await self.take_away(store, b"x", second)
        with pytest.raises(Taken):
            await self.put(store, b"x", b"fourth", expected=second)
        assert await self.names(store) == []

    async def test_bytes_that_arrive_wrong_are_not_shown(self, store):
        await store.probe(self.at)
        card = WriteStamp("d1", None, crc_of(b"what was meant"))
        with pytest.raises(Corrupt):
            await store.put(Put(self.at + b"x", 4, b"oops", card, if_absent=True))
        assert await self.names(store) == []

    async def test_a_large_object_goes_in_pieces_and_comes_back_whole(self, store, tmp_path):
        body = bytes(range(256)) * 4096 * (HELD_BYTES // (1 << 20) * 2) + b"and a rest"
        (tmp_path / "source").mkdir()
        (tmp_path / "source" / "long").write_bytes(body)
        source = FolderStore("source", str(tmp_path / "source"))
        await store.probe(self.at)
        async with source.open(b"long") as reading:
            placed = await store.put(
                Put(self.at + b"long", len(body), reading, WriteStamp("d", 1, ""), if_absent=True)
            )
            assert placed.crc == crc_of(body)
            with pytest.raises(Taken):
                await store.put(
                    Put(
                        self.at + b"long",
                        len(body),
                        reading,
                        WriteStamp("d", 1, ""),
                        if_absent=True,
                    )
                )
            (tmp_path / "source" / "long").write_bytes(body + b"grown")
            with pytest.raises(Changed):
                await store.put(
                    Put(
                        self.at + b"other",
                        len(body),
                        reading,
                        WriteStamp("d", 1, ""),
                        if_absent=True,
                    )
                )
        async with store.open(self.at + b"long") as reading:
            assert b"".join([c async for c in reading.chunks()]) == body
            assert await reading.piece(HELD_BYTES - 1, 3) == body[HELD_BYTES - 1 : HELD_BYTES + 2]
            await reading.verify()
        assert await self.names(store) == [b"long"]

    async def test_the_store_copies_by_itself_what_is_still_the_same(self, store):
        entry = (await self.put(store, b"x", b"song")).entry
        if not (isinstance(store, ServerCopies) and store.copies_from(store)):
            return
        card = WriteStamp("d2", 1_700_000_000_000_000_000, crc_of(b"song"))
        placed = await store.copy(
            Put(self.at + b"sub/y", 4, b"", card, if_absent=True), store, self.at + b"x", entry
        )
        assert fingerprint(placed.entry) == fingerprint(
            (await store.stat(self.at + b"sub/y")).entry
        )
        assert placed.crc == crc_of(b"song")
        with pytest.raises(Taken):
            await store.copy(
                Put(self.at + b"sub/y", 4, b"", card, if_absent=True), store, self.at + b"x", entry
            )
        await self.put(store, b"x", b"other")
        with pytest.raises(Changed):
            await store.copy(
                Put(self.at + b"z", 4, b"", card, if_absent=True), store, self.at + b"x", entry
            )
        assert await self.names(store) == [b"sub/y", b"x"]

    async def test_missing_is_said(self, store):
        with pytest.raises(Missing):
            await store.stat(self.at + b"nothing")
        with pytest.raises(Missing):
            async with store.open(self.at + b"nothing") as reading:
                await reading.whole()

    async def test_the_card_and_the_time_are_kept_where_the_store_can(self, store):
        await store.probe(self.at)
        await self.put(store, b"x", b"song", if_absent=True)
        able, stat = await store.abilities(self.at), await store.stat(self.at + b"x")
        if able.keeps_metadata:
            assert stat.card == WriteStamp("d1", 1_700_000_000_123_456_789, crc_of(b"song"))
        if able.keeps_times:
            off_ns = abs(stat.entry.modified_ns - 1_700_000_000_123_456_789)
            assert off_ns < max(able.time_step_ns, 1)
        assert able.keeps_metadata or able.keeps_times or self.keeps_neither

    async def test_probing_leaves_nothing(self, store):
        await store.probe(self.at)
        assert await self.names(store) == []
