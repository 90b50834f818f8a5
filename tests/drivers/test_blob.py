"""Blob storage: Azurite, and what a server of ours does that Azurite doesn't."""

from __future__ import annotations

import asyncio
import base64
from datetime import UTC, datetime

import pytest

from pinecart.core.checksum import crc_of
from pinecart.core.entries import Entry
from pinecart.core.errors import Busy, Changed, Incomplete, Refused, SignInRefused, Taken
from pinecart.core.keeping import Extra, Keep
from pinecart.core.listing import Ascending
from pinecart.core.ports import HELD_BYTES, Put, WriteStamp
from pinecart.drivers import try_store
from pinecart.drivers.blob.driver import read_address, read_script
from pinecart.drivers.blob.signing import BlobAccount, string_to_sign
from pinecart.drivers.blob.wire import block_id, parse_page
from pinecart.drivers.bucketed.sorting import in_order
from tests.contracts.remote_tree import LONG, long_put, opened
from tests.contracts.store import StoreContract, names, put
from tests.runner.engine import Journal
from tests.servers.azurite import azurite
from tests.servers.blob_habits import BlobHabits

AT = b"larkfell/"


@pytest.fixture(scope="module")
def server():
    with azurite() as found:
        yield found


@pytest.fixture
def container(server):
    return server.container()


@pytest.mark.parametrize("confined", [False, True], ids=["whole account", "one container"])
class TestAzurite(StoreContract):
    @pytest.fixture
    async def store(self, server, container, confined):
        self.at = b"in/" if confined else f"{container}/".encode()
        store = opened(server.spec(container if confined else ""))
        yield store
        await store.close()


HABITS = [
    {},
    {"verifies": "md5"},
    {"verifies": "md5", "holds_conditions": False},
    {"versions": True},
    {"page": 2},
    {"polls": 2},
]


@pytest.mark.parametrize("habits", HABITS, ids=str)
class TestHabits(StoreContract):
    @pytest.fixture
    async def store(self, habits):
        with BlobHabits(**habits) as storage:
            store = opened(storage.spec())
            await store.probe(AT)  # as each run does
            yield store
            await store.close()


@pytest.fixture
def storage():
    with BlobHabits() as found:
        yield found


@pytest.fixture
async def store(storage):
    found = opened(storage.spec())
    yield found
    await found.close()


def test_what_is_signed_is_as_the_protocols_pages_show_it():
    """The example of "Authorize with Shared Key"."""
    headers = {"x-ms-date": "Fri, 26 Jun 2015 23:39:12 GMT", "x-ms-version": "2015-02-21"}
    query = [("restype", "container"), ("comp", "metadata"), ("timeout", "20")]
    assert string_to_sign("GET", "myaccount", "/mycontainer", query, headers) == (
        "GET\n\n\n\n\n\n\n\n\n\n\n\nx-ms-date:Fri, 26 Jun 2015 23:39:12 GMT\n"
        "x-ms-version:2015-02-21\n/myaccount/mycontainer\ncomp:metadata\nrestype:container\n"
        "timeout:20"
    )
    assert "secret" not in repr(BlobAccount("a", b"secret", "sig=secret"))


KEY = base64.b64encode(b"made-up").decode()
STRING = f"DefaultEndpointsProtocol=https;AccountName=larkfell;AccountKey={KEY};"


@pytest.mark.parametrize(
    "pasted, fields",
    [
        (
            f"{STRING}EndpointSuffix=storage.example",
            {"endpoint": "https://larkfell.blob.storage.example", "key": KEY},
        ),
        (
            f"{STRING}BlobEndpoint=http://127.0.0.1:10000/larkfell;",
            {"endpoint": "http://127.0.0.1:10000/larkfell", "key": KEY},
        ),
        (
            "BlobEndpoint=https://files.storage.example/;SharedAccessSignature=sv=1&sig=a%3D",
            {"endpoint": "https://files.storage.example", "sas": "sv=1&sig=a%3D"},
        ),
        (
            "https://larkfell.blob.storage.example/field/a%20b?sv=1&sig=abc%3D",
            {
                "endpoint": "https://larkfell.blob.storage.example",
                "root": "field/a b",
                "sas": "sv=1&sig=abc%3D",
            },
        ),
        ("https://objects.example/bucket", {}),
        ("AccountKey=only", {}),
        (f"{STRING}", {"account": "larkfell", "key": KEY}),
    ],
)
def test_what_a_storages_page_shows_is_pasted_as_it_is(pasted, fields):
    assert read_address(pasted) == fields
    assert read_script(f'Connection string\nexport STRING="{pasted}"\n') == fields


@pytest.mark.parametrize("way", ["key", "sas"])
async def test_a_try_tells_each_step(server, container, way):
    spec = server.spec(name="blobs", allowed=["127.0.0.0/8"])
    if way == "sas":
        spec |= {"key": "", "sas": f"?{server.sas()}"}
    steps = await try_store(spec, write_to=container)
    assert all(step.ok for step in steps), steps
    told = {step.step: step.message for step in steps}
    assert ("key" if way == "key" else "signature") in told["sign in"]
    assert told["checksums"] == "The store verifies MD5 checksums."
    steps = await try_store(spec | {"root": "no-such-container"})
    assert steps[-1].code == "store.no-bucket"


async def test_what_may_not_be_is_told_apart(server, container):
    wrong = {"key": base64.b64encode(b"another").decode()}
    ended = {"key": "", "sas": server.sas(ends="2020-01-01T00:00:00Z")}
    for fields in (wrong, ended):
        store = opened(server.spec(container) | fields)
        with pytest.raises(SignInRefused):
            await names(store, b"")
        await store.close()
    reader = opened(server.spec(container) | {"key": "", "sas": server.sas("rl")})
    assert await names(reader, b"") == []
    with pytest.raises(Refused) as refused:
        await put(reader, b"x", b"song")
    assert refused.value.code == "store.refused"
    await reader.close()
    with pytest.raises(Refused, match="Base64"):
        opened(server.spec(key="no base64!"))


async def test_the_least_rights_do_all_that_a_run_does(server, container, tmp_path):
    store = opened(server.spec(container) | {"key": "", "sas": server.sas("rlcwd")})
    await store.probe(b"larkfell/")
    small = (await put(store, b"x", b"1", if_absent=True)).entry
    placed = (await long_put(store, tmp_path, uploads=Journal())).entry
    asked = Put(b"larkfell/y", 1, b"", WriteStamp("d", None, ""), if_absent=True)
    copy = await store.copy(asked, store, b"larkfell/x", small)
    placed = (await long_put(store, tmp_path, placed)).entry
    for key, entry in ((b"x", small), (b"y", copy.entry), (b"long", placed)):
        await store.remove(b"larkfell/" + key, entry)
    assert await names(store, b"") == []
    await store.close()


def test_what_a_hierarchical_account_shows_of_its_folders_is_left_out():
    rows = "".join(
        f"<Blob><Name>in/{name}</Name><Properties><Content-Length>0</Content-Length>{more}"
        "</Properties></Blob>"
        for name, more in (("d", "<ResourceType>directory</ResourceType>"), ("d/x", ""))
    )
    body = f"<EnumerationResults><Blobs>{rows}</Blobs></EnumerationResults>".encode()
    assert [entry.key for entry in parse_page(body, prefix=b"in/").entries] == [b"d/x"]
    with pytest.raises(Incomplete):
        parse_page(body, prefix=b"out/")


async def test_a_listing_in_another_order_is_put_in_that_of_bytes(server, container):
    """Azurite orders by UTF-16."""
    held = ["a", "\U0001f3b5/1", "\uff5e", "\U0001f3b5", "z", "\ufffd/2"]
    for name in held:
        server.put(f"{container}/{name}", b"x")
    store = opened(server.spec(container))
    assert await names(store, b"") == sorted(name.encode() for name in held)
    await store.close()


async def test_fifty_thousand_names_in_any_order(storage, store):
    for n in range(50_000):
        odd = "\U0001f3b5" if n % 3 else "\uff5e"
        storage.store(f"{odd if n % 7 == 0 else 'd'}{n * 7919 % 50_000:05}", b"", {})
    check, count = Ascending("test"), 0
    async for page in store.list(b""):
        assert len(page) <= 500
        count += len(check.check(page))
    assert count == 50_000


async def test_pages_in_no_order_at_all_are_merged_in_several_turns():
    keys = [b"%05d" % (n * 7919 % 20_000) for n in range(20_000)]

    async def pages():
        for at in range(0, len(keys), 100):  # 200 runs
            yield [Entry(key, 1, None, "0x1") for key in keys[at : at + 100]]

    found = [entry async for page in in_order(pages()) for entry in page]
    assert found == [Entry(key, 1, None, "0x1") for key in sorted(keys)]
    one_page = [Entry(b"b", 1, None), Entry(b"a", 1, None)]

    async def one():
        yield one_page

    assert [entry.key async for page in in_order(one()) for entry in page] == [b"a", b"b"]


async def test_names_that_xml_cant_hold_and_pages_that_go_round(storage, store):
    storage.store("a%\x01b", b"x", {})
    assert await names(store, b"") == [b"a%\x01b"]
    for n in range(9):
        storage.store(f"{n}", b"x", {})
    storage.habits.page, storage.habits.circles = 3, True
    with pytest.raises(Incomplete, match="circles"):
        await names(store, b"")


@pytest.mark.parametrize("name", [b"../x", b"a/./b", b"/x", b"\xff"])
async def test_names_that_no_blob_can_have(store, name):
    assert store.unfit(name) and store.unfit(b"n" * 1025) and not store.unfit(b"n" * 1024)
    with pytest.raises(Refused):
        await put(store, name, b"x", at=b"")


async def test_blocks_that_lie_there_are_used_again(storage, store, tmp_path):
    await store.probe(AT)
    journal = Journal()
    storage.habits.refuses["larkfell/long"] = (503, "ServerBusy")
    with pytest.raises(Busy):
        await long_put(store, tmp_path, uploads=journal)
    storage.habits.refuses.clear()
    storage.habits.cuts["PUT blocklist"] = 1
    with pytest.raises(Busy):
        await long_put(store, tmp_path, uploads=journal)
    storage.blobs.clear()  # as if the run was killed just before
    blocks = LONG[:HELD_BYTES], LONG[HELD_BYTES : 2 * HELD_BYTES]
    storage.blocks["larkfell/long"] = {
        block_id(n, crc_of(body)): body for n, body in enumerate(blocks, 1)
    }
    storage.habits.asked.clear()
    placed = await long_put(store, tmp_path, uploads=journal)
    assert storage.habits.asked["PUT block"] == 2 and placed.crc == crc_of(LONG)
    assert storage.blobs["larkfell/long"].body == LONG and not journal.rows


@pytest.mark.parametrize("step", ["PUT block", "PUT blocklist", "HEAD"])
async def test_a_line_that_is_cut_at_any_step(storage, store, tmp_path, step):
    await store.probe(AT)
    entry = (await put(store, b"long", b"before")).entry
    for nth in (1, 2):
        storage.habits.cuts[step] = nth
        entry = await put_in_the_end(store, tmp_path, entry)
        assert storage.blobs["larkfell/long"].body == LONG


async def put_in_the_end(store, tmp_path, entry):
    """As a run does: it looks what is there, where an answer was lost."""
    for _ in range(5):
        try:
            return (await long_put(store, tmp_path, entry)).entry
        except (Busy, Taken):
            stat = await store.stat(b"larkfell/long")
            if stat.card and stat.card.decision_id == "d" and stat.entry.etag != entry.etag:
                return stat.entry
    raise AssertionError("it never ended well")


async def test_what_was_left_unfinished_is_cleared_and_nothing_of_others(storage, store):
    since, key = datetime.now(UTC).isoformat(), "larkfell/x"
    storage.blocks[key] = {block_id(1, crc_of(b"1")): b"1"}
    assert await store.clear_uploads(key.encode(), since) == 1
    assert not storage.blocks and not storage.blobs
    storage.blocks[key] = {"dGhlaXJz": b"1"}
    assert await store.clear_uploads(key.encode(), since) == 0
    assert storage.blocks[key]


async def test_somebody_elses_unfinished_upload_is_waited_for(storage, store, tmp_path):
    storage.blocks["larkfell/long"] = {"dGhlaXJz": b"1"}
    with pytest.raises(Busy) as busy:
        await long_put(store, tmp_path)
    assert busy.value.code == "in-use" and storage.blocks["larkfell/long"]["dGhlaXJz"] == b"1"


@pytest.mark.parametrize(
    "status, code, told",
    [
        (412, "LeaseIdMissing", "in-use"),
        (409, "SnapshotsPresent", "store.has-snapshots"),
        (409, "BlobArchived", "store.archived"),
        (409, "BlobImmutableDueToPolicy", "store.immutable"),
        (403, "AuthorizationPermissionMismatch", "store.refused"),
    ],
)
async def test_refusals_are_told_in_our_words(storage, store, status, code, told):
    entry = (await put(store, b"x", b"song")).entry
    storage.habits.refuses["larkfell/x"] = (status, code)
    with pytest.raises((Busy, Refused)) as refused:
        await store.remove(AT + b"x", entry)
    assert refused.value.code == told and storage.blobs["larkfell/x"]


async def test_a_removal_whose_answer_was_lost_was_one(storage, store):
    entry = (await put(store, b"x", b"song")).entry
    storage.habits.cuts["DELETE"] = 1
    assert await store.remove(AT + b"x", entry) and not storage.blobs


async def test_versions_are_found_and_read(storage, store):
    storage.habits.versions = True
    assert not await store.keeps_versions(AT)
    first = (await put(store, b"x", b"first")).entry
    assert await store.keeps_versions(AT + b"x")
    await put(store, b"x", b"second", expected=first)
    storage.habits.page = 1
    found = await store.versions(AT + b"x")
    assert [(v.is_current, v.size) for v in found] == [(True, 6), (False, 5)]
    async with store.open(AT + b"x", version=found[1].version) as reading:
        assert await reading.whole() == b"first"
    storage.habits.versions = False  # switched off, and something is written since
    await put(store, b"y", b"after it")
    another = opened(storage.spec())  # knows nothing yet, and finds it out by looking at each
    assert await another.keeps_versions(AT + b"x") and not await another.keeps_versions(AT + b"y")
    await another.close()


async def test_a_copy_that_fails_is_no_copy(storage, store):
    entry = (await put(store, b"x", b"song")).entry
    storage.habits.polls, storage.habits.copy_fails = 1, True
    asked = Put(AT + b"y", 4, b"", WriteStamp("d", None, ""), if_absent=True)
    with pytest.raises(Busy, match="failed"):
        await store.copy(asked, store, AT + b"x", entry)
    assert [*storage.blobs] == ["larkfell/x"]
    with pytest.raises(Changed):
        await store.copy(
            asked._replace(key=AT + b"z"), store, AT + b"x", entry._replace(etag="0x0")
        )


async def test_a_copy_that_is_under_way_ends_with_who_asked_for_it(storage, store):
    entry = (await put(store, b"x", b"song")).entry
    asked = Put(AT + b"y", 4, b"", WriteStamp("d", None, ""), if_absent=True)
    storage.habits.polls = 1
    placed = await store.copy(asked, store, AT + b"x", entry)
    assert placed and storage.blobs["larkfell/y"].body == b"song"
    storage.habits.polls = 10_000
    copying = asyncio.create_task(
        store.copy(asked._replace(key=AT + b"z"), store, AT + b"x", entry)
    )
    while storage.pending["larkfell/z"] in (0, 10_000):  # not asked after yet
        await asyncio.sleep(0.01)
    copying.cancel()
    with pytest.raises(asyncio.CancelledError):
        await copying
    assert storage.habits.asked["PUT copy"] == 1 and [*storage.blobs] == [
        "larkfell/x",
        "larkfell/y",
    ]


async def test_what_goes_with_an_object_is_kept_or_told(server, container):
    store = opened(server.spec(container))
    told = await put(
        store,
        b"x",
        b"song",
        content_type="audio/flac",
        metadata={"taken_by": "larkfell", "pinecart-mode": "640", "no name": "x", "odd": "\u00e9"},
        headers={"cache-control": "no-store", "expires": "Thu, 01 Dec 2050", "x-delete-at": "9"},
        extra=Extra(tags={"a b": "c/d"}, storage_class="Cool"),
    )
    assert told.lost == "expires, x-delete-at, the metadata 'no name', the metadata 'odd'"
    stat = await store.stat(AT + b"x")
    assert (stat.content_type, stat.storage_class) == ("audio/flac", "Cool")
    assert stat.metadata == {"taken_by": "larkfell", "pinecart-mode": "640"}
    assert stat.headers == {"cache-control": "no-store"}
    async with store.open(AT + b"x") as reading:
        assert (await reading.besides(Keep(tags=True))).tags == {"a b": "c/d"}
    await store.close()
