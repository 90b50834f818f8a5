"""Swift by its own protocol, judged by OpenStack Swift."""

from __future__ import annotations

import asyncio
import contextlib
from datetime import UTC, datetime
from urllib.parse import urlsplit

import pytest

from pinecart.core.checksum import crc_of
from pinecart.core.decide import Comparison, LookAnswer
from pinecart.core.entries import fingerprint
from pinecart.core.errors import (
    Busy,
    Changed,
    Corrupt,
    PinecartError,
    Refused,
    SignInRefused,
    Taken,
)
from pinecart.core.ports import HELD_BYTES, Put, WriteStamp
from pinecart.runner.content_comparison import Pair, compare_contents
from pinecart.standins.faulty import BadLine
from tests.contracts.remote_tree import LONG, long_put, opened
from tests.contracts.store import AT, StoreContract, names, put
from tests.repeats import first
from tests.runner.engine import Journal
from tests.servers import swift
from tests.servers.forwarder import Forwarder
from tests.servers.swift import CARRIER, ENDPOINT
from tests.servers.swift_door import SwiftDoor
from tests.servers.swift_gateway import SwiftGateway
from tests.whole.house import free_port

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


@pytest.mark.parametrize("confined", first(1, [False, True]), ids=str)
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


async def test_its_own_checksums_are_compared_without_reading(store, door, container, tmp_path):
    """Two objects in one piece by their MD5s; those of segments, and what differs, are read."""
    other = opened(door.spec(door.container()))

    async def pair(key):
        found = [(await one.stat(key)).entry for one in (store, other)]
        return Pair(store, key, found[0], other, key, found[1])

    async def answer(key):
        """And by how many requests."""
        both = await pair(key)
        before = store.requests_sent + other.requests_sent
        told = await compare_contents(both, Comparison.CHECKSUM)
        return *told, store.requests_sent + other.requests_sent - before

    for one, body in ((store, b"song"), (other, b"long")):
        await put(one, b"same", b"dawn")
        await put(one, b"other", body)
        await long_put(one, tmp_path)
    assert await answer(b"larkfell/same") == (LookAnswer.EQUAL, "", 2)
    assert (await answer(b"larkfell/other"))[0] is LookAnswer.DIFFERS
    assert (await answer(b"larkfell/long"))[:2] == (LookAnswer.EQUAL, crc_of(LONG))
    stale = await pair(b"larkfell/same")
    await put(other, b"same", b"dusk", expected=stale.far_entry)
    with pytest.raises(Changed):
        await compare_contents(stale, Comparison.CHECKSUM)
    await other.close()


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


# --- what is there stays whole


@contextlib.asynccontextmanager
async def keeping(segment, door, container):
    """The store, where this segment may not be taken away."""
    path = urlsplit(door.url).path
    named = f"DELETE {path}/{container}_segments/{segment}".encode()
    with line(garbles=(named, b"REFUSE" + named[6:])) as url:
        where = {"auth_url": f"{url}/auth/v1.0", "storage_url": door.url.replace(ENDPOINT, url)}
        store = opened(door.spec(container, **where))
        yield store
        await store.close()


async def test_what_replaces_a_large_object_is_whole_where_a_part_of_the_old_may_not_go(
    store, door, container, tmp_path
):
    """What stays of the old is journalled, and cleared by the run that ends."""
    before, journal = await long_put(store, tmp_path), Journal()
    kept, *_ = door.segments(container)
    async with keeping(kept, door, container) as other:
        placed = await long_put(other, tmp_path, before.entry, uploads=journal)
    assert placed.left.startswith("parts of what it replaced."), placed
    assert door.holds(container) == {"larkfell/long": LONG}
    assert door.left(container) == {kept}
    [(key, (_, begun_at, _))] = journal.rows.items()
    assert await store.clear_uploads(key, begun_at) == 1
    assert door.holds(container) == {"larkfell/long": LONG}
    assert door.left(container) == set()


async def test_a_removal_says_what_it_could_not_take_away(store, door, container, tmp_path):
    placed = await long_put(store, tmp_path)
    kept, *_ = door.segments(container)
    async with keeping(kept, door, container) as other:
        with pytest.raises(Refused, match="was removed, and parts of it are left") as caught:
            await other.remove(b"larkfell/long", placed.entry)
    assert caught.value.code == "store.parts-left"
    assert door.names(container) == [] and door.segments(container) == [kept]


@pytest.mark.parametrize("seed", first(2, range(6)))
async def test_a_copy_whose_answers_are_lost_is_whole_or_not_there(
    store, door, container, tmp_path, seed
):
    """And what is journalled goes with another try, or when the run clears what it left."""
    placed, stamp = await long_put(store, tmp_path), WriteStamp("d2", None, crc_of(LONG))
    bad = BadLine("127.0.0.1", swift.PORT, seed, rate=0.5, kinds=("cut-after",), methods=("PUT",))
    relay, port = await bad.serve()
    url = f"http://127.0.0.1:{port}"
    where = {"auth_url": f"{url}/auth/v1.0", "storage_url": door.url.replace(ENDPOINT, url)}
    other, journal, puts = opened(door.spec(container, **where)), Journal(), {}
    for n in range(6):
        name, size = f"larkfell/copy-{n}", len(LONG)
        puts[name] = Put(name.encode(), size, b"", stamp, if_absent=True, uploads=journal)
        with contextlib.suppress(Busy):
            await other.copy(puts[name], other, b"larkfell/long", placed.entry)
    await other.close()
    relay.close()
    held = door.holds(container)
    assert [name for name, body in held.items() if body != LONG] == []
    for name in puts.keys() - held.keys():
        await store.copy(puts[name], store, b"larkfell/long", placed.entry)
    for key, (_, at, _) in list(journal.rows.items()):
        await store.clear_uploads(key, at)
    assert door.left(container) == set()
    assert door.holds(container) == dict.fromkeys(["larkfell/long", *puts], LONG)


# --- who may do what


def allow(door, container, *, writes=False):
    headers = {"x-container-read": "test:carrier"}
    if writes:
        headers["x-container-write"] = "test:carrier"
    assert door.ask("POST", container, headers=headers).status_code == 204


async def test_who_may_read_reads_and_is_told_that_it_may_not_write(door, container):
    door.put(f"{container}/x", b"song")
    allow(door, container)
    store = opened(door.spec(container, **CARRIER))
    [entry] = [e async for page in store.list(b"") for e in page]
    async with store.open(b"x", entry) as reading:
        assert await reading.whole() == b"song"
    with pytest.raises(Refused) as caught:
        await put(store, b"y", b"1")
    assert caught.value.code == "store.refused"
    await store.close()


async def test_the_least_rights_do_all_that_a_run_does(door, container, tmp_path):
    """To read and write the container, and that of its segments."""
    door.ask("PUT", f"{container}_segments")
    for one in (container, f"{container}_segments"):
        allow(door, one, writes=True)
    store = opened(door.spec(container, **CARRIER))
    await store.probe(AT)
    small = await put(store, b"x", b"1", if_absent=True)
    placed = await long_put(store, tmp_path)
    again = await long_put(store, tmp_path, placed.entry)
    await store.remove(b"larkfell/long", again.entry)
    await store.remove(b"larkfell/x", small.entry)
    assert door.names(container) == door.segments(container) == []
    await store.close()


async def test_all_who_are_refused_for_a_token_that_ended_go_on(door, container):
    allow(door, container, writes=True)
    store = opened(door.spec(container, **CARRIER))
    await put(store, b"x", b"1", if_absent=True)
    for _ in range(2):
        door.forget_token(**CARRIER)
        found = await asyncio.gather(*(store.stat(AT + b"x") for _ in range(20)))
        assert {stat.entry.size for stat in found} == {1}
    await store.close()


async def test_a_token_is_all_that_is_needed(door, container):
    door.put(f"{container}/x", b"song")
    told = {"user": "", "key": "", "auth_url": "", "storage_url": door.url}
    store = opened(door.spec(container, **told, token=door.http.headers["x-auth-token"]))
    assert (await store.stat(b"x")).entry.size == 4
    await store.close()
    wrong = opened(door.spec(container, **told, token="AUTH_tkmadeup"))
    with pytest.raises(SignInRefused):
        await wrong.stat(b"x")
    await wrong.close()


@contextlib.contextmanager
def line(says=b"", garbles=(b"", b"")):
    found = Forwarder(free_port(), swift.PORT)
    found.says, found.garbles = says, garbles
    found.begin()
    yield f"http://127.0.0.1:{found.port}"
    found.end()


async def test_a_token_goes_to_no_machine_that_was_not_named(door):
    says = (
        b"HTTP/1.1 200 OK\r\nX-Storage-Url: http://127.0.0.1:9/v1/AUTH_test\r\n"
        b"X-Auth-Token: AUTH_tkmadeup\r\nContent-Length: 0\r\n\r\n"
    )
    with line(says) as url:
        store = opened(door.spec("c", auth_url=f"{url}/auth/v1.0"))
        with pytest.raises(Refused) as caught:
            await store.stat(b"x")
        assert caught.value.code == "store.redirected"
        await store.close()


# --- stores that are not as they should be


@pytest.mark.parametrize(
    "body, code",
    [
        (b'[{"name": "x", "bytes": 1, "hash": "", "last_modified": "2026', "store.cut"),
        (b'{"name": "x"}', "store.garbled"),
        (b'[{"name": "x", "bytes": 1}]', "listing.incomplete"),  # after x again
    ],
)
async def test_a_listing_that_is_none_is_not_taken_for_one(door, body, code):
    says = b"HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%b" % (len(body), body)
    with line(says) as url:
        told = {"user": "", "key": "", "auth_url": "", "storage_url": f"{url}/v1/AUTH_test"}
        store = opened(door.spec("c", **told, token="AUTH_tkmadeup"), retry={"times": 1})
        with pytest.raises(PinecartError) as caught:
            await names(store, b"")
        assert caught.value.code == code
        await store.close()


@pytest.mark.parametrize(
    "garbles, checksum, create_only",
    [
        ((b"\r\netag:", b"\r\nxtag:"), "", True),
        ((b"\r\nif-none-match:", b"\r\nxf-none-match:"), "md5", False),
    ],
)
async def test_a_store_that_takes_no_notice_is_found_out(
    door, container, garbles, checksum, create_only
):
    with line(garbles=garbles) as url:
        where = {"auth_url": f"{url}/auth/v1.0", "storage_url": door.url.replace(ENDPOINT, url)}
        store = opened(door.spec(container, **where))
        able = await store.probe(AT)
        assert (able.checksum, able.create_only) == (checksum, create_only)
        await store.close()


# --- objects of other kinds


async def test_versions_stay_with_their_segments_and_are_read(store, door, container, tmp_path):
    door.ask("POST", container, headers={"x-versions-enabled": "true"})
    assert await store.keeps_versions(AT)
    placed = await long_put(store, tmp_path)
    await put(store, b"long", b"short", expected=placed.entry)
    assert len(door.segments(container)) == 4
    newest, before = await store.versions(b"larkfell/long")
    assert (newest.size, before.size) == (5, len(LONG))
    async with store.open(b"larkfell/long", version=before.version) as reading:
        assert crc_of(b"".join([chunk async for chunk in reading.chunks()])) == crc_of(LONG)


async def test_what_is_put_together_by_a_beginning_is_told_as_changed(store, door, container):
    door.put(f"{container}/part/1", b"song")
    manifest = {"x-object-manifest": f"{container}/part/"}
    door.ask("PUT", f"{container}/all", headers=manifest)
    entries = [e async for page in store.list(b"") for e in page]
    assert [(e.key, e.size) for e in entries] == [(b"all", 0), (b"part/1", 4)]
    with pytest.raises(Changed):
        async with store.open(b"all", entries[0]) as reading:
            await reading.whole()


# --- other ways


@pytest.fixture
async def gateway():
    with SwiftGateway() as storage:
        yield storage


@pytest.fixture
async def behind(gateway):
    store = opened(gateway.spec("c"))
    await store.probe(AT)  # as each run does
    yield store
    await store.close()


class TestGateway(StoreContract):
    @pytest.fixture
    async def store(self, behind):
        return behind


async def test_large_objects_that_a_store_tells_wrong_are_told_as_they_are(
    gateway, behind, tmp_path
):
    await put(behind, b"small", b"song")
    placed = await long_put(behind, tmp_path)
    listed = {e.key: e async for page in behind.list(AT) for e in page}
    assert fingerprint(listed[b"long"]) == fingerprint(placed.entry)
    assert (await behind.level(AT)).entries == list(listed.values())
    stat = await behind.stat(AT + b"long")
    assert not stat.metadata, "what we note with it is no user's"


async def test_a_condition_that_a_store_misjudges_is_given_up_by_all_who_read(
    gateway, behind, tmp_path
):
    await long_put(behind, tmp_path)
    store = opened(gateway.spec("c"))  # knows nothing of it yet
    async with store.open(AT + b"long") as reading:
        starts = range(0, len(LONG), HELD_BYTES)
        sizes = [min(HELD_BYTES, len(LONG) - start) for start in starts]
        pieces = await asyncio.gather(*map(reading.piece, starts, sizes))
    assert b"".join(pieces) == LONG
    gateway.things["c/larkfell/long"].etag = "f" * 32
    with pytest.raises(Changed):
        await reading.piece(0, 4)
    await store.close()


async def test_the_parts_of_what_a_store_tells_nothing_of_go_with_it(gateway, behind, tmp_path):
    since = datetime.now(UTC).isoformat()
    first = await long_put(behind, tmp_path)
    parts = gateway.names("c_segments")
    assert (
        len(parts) == 4
        and await behind.clear_uploads(AT + b"long", "2020-01-01T00:00:00+00:00") == 0
    )
    again = await long_put(behind, tmp_path, first.entry)
    assert len(gateway.names("c_segments")) == 4
    assert not set(parts) & set(gateway.names("c_segments"))
    assert gateway.bytes_of("c/larkfell/long") == LONG
    assert await behind.clear_uploads(AT + b"long", since) == 0
    assert (
        await behind.copy(
            Put(AT + b"copy", len(LONG), b"", WriteStamp("d", None, ""), True),
            behind,
            AT + b"long",
            again.entry,
        )
        is None
    ), "it goes through us"
    await behind.remove(AT + b"long", again.entry)
    assert gateway.names("c") == gateway.names("c_segments") == []


async def test_parts_that_may_be_of_something_are_left(gateway, behind, tmp_path):
    """Where nothing was noted with it, nobody knows."""
    begun, noted = "2020-01-01T00:00:00+00:00", "x-object-meta-pinecart-upload"
    placed = await long_put(behind, tmp_path)
    gateway.things["c/larkfell/long"].kept.pop(noted)
    with pytest.raises(Refused) as refused:
        await behind.clear_uploads(AT + b"long", begun)
    assert refused.value.code == "store.parts-untold"
    assert gateway.bytes_of("c/larkfell/long") == LONG
    again = await long_put(behind, tmp_path, placed.entry)
    assert again.left and gateway.bytes_of("c/larkfell/long") == LONG
    assert await behind.clear_uploads(AT + b"long", begun) == 1
    assert len(gateway.names("c_segments")) == 4
    gateway.things["c/larkfell/long"].kept.pop(noted)
    with pytest.raises(Refused, match="parts of it are left"):
        await behind.remove(AT + b"long", again.entry)
    assert gateway.names("c") == [] and len(gateway.names("c_segments")) == 4


@pytest.mark.parametrize("ever", [False, True])
async def test_a_store_that_joins_no_segments_takes_no_large_file(gateway, behind, tmp_path, ever):
    """Else what tells of the segments would be stored in its place."""
    gateway.joins, journal = False, Journal()
    before = (await behind.put(small_put(b"long"))).entry
    if not ever:
        with pytest.raises(Refused, match="no objects of segments"):
            await long_put(behind, tmp_path, before, uploads=journal)
        assert gateway.bytes_of("c/larkfell/long") == b"song"
        assert gateway.names("c") == ["larkfell/long"] and gateway.names("c_segments") == []
    else:
        gateway.joins = True
        await long_put(behind, tmp_path, before, uploads=journal)
        gateway.joins = False  # it was switched off since
        now = (await behind.stat(AT + b"long")).entry
        with pytest.raises(Corrupt):
            await long_put(behind, tmp_path, now, uploads=journal)


async def test_an_expiry_goes_along_where_copies_lose_it(gateway, behind):
    ends = {"x-delete-at": "4102444800"}
    first = await behind.put(small_put(b"x", headers=ends))
    await behind.copy(small_put(b"y", headers=ends), behind, AT + b"x", first.entry)
    assert gateway.things["c/larkfell/y"].kept["x-delete-at"] == "4102444800"


def small_put(name, **more):
    stamp = WriteStamp("d", None, crc_of(b"song"))
    return Put(AT + name, 4, b"song", stamp, if_absent=True, **more)
