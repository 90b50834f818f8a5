"""Swift by its own protocol, judged by OpenStack Swift."""

from __future__ import annotations

import pytest

from pinecart.core.checksum import crc_of
from pinecart.core.errors import Taken
from pinecart.core.ports import Put, WriteStamp
from tests.contracts.remote_tree import LONG, long_put, opened
from tests.contracts.store import StoreContract
from tests.servers.swift_door import SwiftDoor

pytestmark = pytest.mark.xdist_group("swift")


@pytest.fixture(scope="module")
def door():
    return SwiftDoor()


@pytest.fixture
def container(door):
    return door.container()


@pytest.fixture
async def store(door, container):
    found = opened(door.spec(container))
    yield found
    await found.close()


@pytest.mark.parametrize("confined", [False, True], ids=["whole account", "one container"])
class TestSwift(StoreContract):
    @pytest.fixture
    async def store(self, door, container, confined):
        self.at = b"in/" if confined else f"{container}/".encode()
        store = opened(door.spec(container if confined else ""))
        yield store
        await store.close()


async def test_segments_go_with_the_object_that_is_made_of_them(store, door, container, tmp_path):
    placed = await long_put(store, tmp_path)
    assert placed.crc == crc_of(LONG) and placed.proof == "server-verified"
    first = door.segments(container)
    assert len(first) == 4
    again = await long_put(store, tmp_path, placed.entry)
    second = door.segments(container)
    assert len(second) == 4 and not set(first) & set(second)
    with pytest.raises(Taken):
        await long_put(store, tmp_path)
    assert door.segments(container) == second
    stamp = WriteStamp("d2", None, crc_of(LONG))
    copy = await store.copy(
        Put(b"larkfell/copy", len(LONG), b"", stamp, if_absent=True),
        store,
        b"larkfell/long",
        again.entry,
    )
    assert copy.entry.etag == again.entry.etag and len(door.segments(container)) == 8
    await store.remove(b"larkfell/long", again.entry)
    assert door.holds(container) == {"larkfell/copy": LONG}
    assert len(door.segments(container)) == 4
    await store.remove(b"larkfell/copy", copy.entry)
    assert door.segments(container) == door.names(container) == []


async def test_somebody_elses_segments_are_left_alone(store, door, container):
    body = b"made by another program"
    door.ask("PUT", f"{container}_segments")
    door.put(f"{container}_segments/their/1", body)
    told = [{"path": f"{container}_segments/their/1"}]
    door.ask("PUT", f"{container}/big", "multipart-manifest=put", json=told)
    [entry] = [e async for page in store.list(b"") for e in page]
    async with store.open(b"big", entry) as reading:
        assert await reading.whole() == body
    assert (await store.stat(b"big")).entry.etag == entry.etag
    await store.remove(b"big", entry)
    assert door.segments(container) == ["their/1"]


async def test_an_expiry_goes_along(store, door, container):
    ends = {"x-delete-at": "4102444800"}
    door.ask("PUT", f"{container}/x", content=b"song", headers=ends)
    stat = await store.stat(b"x")
    assert stat.headers == ends
    stamp = WriteStamp("d", None, crc_of(b"song"))
    put = Put(b"y", 4, b"song", stamp, if_absent=True, headers=stat.headers)
    assert (await store.put(put)).lost == ""
    await store.copy(put._replace(key=b"z"), store, b"x", stat.entry)
    for name in ("y", "z"):
        assert door.ask("HEAD", f"{container}/{name}").headers["x-delete-at"] == "4102444800"
