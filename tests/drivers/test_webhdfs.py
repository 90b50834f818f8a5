"""WebHDFS, over the stand-in that ships with it: there is no server to be had by a registry."""

from __future__ import annotations

import os

import pytest

from pinecart.core.decide import Comparison, LookAnswer
from pinecart.core.errors import Changed, Refused, SignInRefused, StoreError
from pinecart.core.keeping import Extra, Keep
from pinecart.core.ports import HELD_BYTES, OwnSum
from pinecart.drivers import try_store
from pinecart.drivers.webhdfs.driver import read_address
from pinecart.drivers.webhdfs.wire import sum_of, target
from pinecart.runner.content_comparison import Pair, compare_contents
from tests.contracts.large_listing import MANY, listed_of_many
from tests.contracts.remote_tree import LONG, cut_at_any_step, long_put, opened
from tests.contracts.store import AT, StoreContract, names, put
from tests.repeats import first, repeat
from tests.servers.hdfs import Hdfs

TOKEN = "made-up-token"


def one(tmp_path, **habits):
    (tmp_path / "there" / "larkfell").mkdir(parents=True)
    return Hdfs(tmp_path / "there", **habits)


@pytest.fixture
def partner(tmp_path):
    with one(tmp_path) as found:
        yield found


def there(tmp_path):
    return {path.name: path.read_bytes() for path in (tmp_path / "there" / "larkfell").iterdir()}


HABITS = ({}, {"batches": False}, {"token": TOKEN}, {"gateway": True})


@pytest.mark.parametrize("habits", first(2, HABITS), ids=str)
class TestStandIn(StoreContract):
    @pytest.fixture
    async def store(self, tmp_path, habits):
        with one(tmp_path, **habits) as system:
            store = opened(system.spec())
            yield store
            await store.close()


@pytest.mark.parametrize(
    "pasted, fields",
    [
        (
            "webhdfs://names.example:9870/data/a%20b/",
            {"url": "http://names.example:9870", "root": "/data/a b"},
        ),
        ("swebhdfs://names.example", {"url": "https://names.example"}),
        (
            "https://names.example:9871/webhdfs/v1/data?op=LISTSTATUS&user.name=larkfell",
            {"url": "https://names.example:9871", "root": "/data", "user": "larkfell"},
        ),
        ("https://objects.example/bucket", {}),
    ],
)
def test_addresses_as_they_are_pasted(pasted, fields):
    assert read_address(pasted) == fields


def test_a_key_is_never_more_than_a_path():
    asked = target(b"/data", "a?op=DELETE&x=#/é b".encode(), "OPEN", {"user.name": "a&b"}, n=1)
    assert asked == (
        "/webhdfs/v1/data/a%3Fop%3DDELETE%26x%3D%23/%C3%A9%20b?op=OPEN&user.name=a%26b&n=1"
    )


async def test_a_try_tells_each_step(partner):
    spec = partner.spec(name="partner", allowed=["127.0.0.0/8"])
    steps = await try_store(spec, write_to="larkfell")
    assert all(step.ok for step in steps), steps
    told = {step.step: step.message for step in steps}
    assert "whoever reaches it may say so" in told["sign in"]
    assert "Times are kept to 1 ms" in told["abilities"]
    wrong = await try_store(spec | {"root": "/nothing"})
    assert (wrong[-1].step, wrong[-1].code) == ("list", "store.missing")


async def test_a_wrong_token_is_refused(tmp_path):
    with one(tmp_path, token=TOKEN) as system:
        store = opened(system.spec(token="guess"))
        with pytest.raises(SignInRefused):
            await store.stat(b"larkfell/x")
        await store.close()


async def test_bytes_go_to_no_host_that_nobody_named(tmp_path, partner):
    partner.elsewhere = "localhost"  # the data node answers there as well
    store = opened(partner.spec())
    with pytest.raises(Refused) as caught:
        await put(store, b"x", b"1", if_absent=True)
    assert caught.value.code == "store.address-left" and "localhost" in caught.value.message
    assert not any(key.startswith("_datanode") for key in partner.asked) and not there(tmp_path)
    await store.close()
    store = opened(partner.spec(data_hosts="other.example, local*"))
    await put(store, b"x", b"1", if_absent=True)
    assert there(tmp_path) == {"x": b"1"}
    await store.close()


@pytest.mark.parametrize("when", first(1, ["lost", "cuts"]))
@pytest.mark.parametrize(
    "what",
    [
        "_namenode CREATE",
        "_datanode CREATE",
        "_namenode SETTIMES",
        "_namenode OPEN",
        "_datanode OPEN",
        "_namenode RENAME",
        "_namenode DELETE",
        "_namenode GETFILESTATUS",
    ],
)
async def test_a_line_that_is_cut_at_any_step_leaves_one_whole_file(partner, tmp_path, what, when):
    store = opened(partner.spec())
    await cut_at_any_step(store, getattr(partner, when), what, tmp_path, there)


async def test_answers_that_end_before_their_length_are_asked_for_again(partner, tmp_path):
    store = opened(partner.spec())
    await store.probe(b"larkfell/")
    entry = (await long_put(store, tmp_path, if_absent=True)).entry
    partner.short = 2
    async with store.open(b"larkfell/long", entry) as reading:
        assert await reading.piece(HELD_BYTES - 3, 9) == LONG[HELD_BYTES - 3 : HELD_BYTES + 6]
    await store.close()


@pytest.mark.parametrize("name", [b"small", b"long"])
async def test_a_part_with_too_few_bytes_is_not_taken(partner, tmp_path, name):
    store = opened(partner.spec())
    await store.probe(b"larkfell/")
    await put(store, b"small", b"a few bytes", if_absent=True)
    await long_put(store, tmp_path, if_absent=True)
    partner.lies = 1
    with pytest.raises(Changed):
        async with store.open(b"larkfell/" + name) as reading:
            await reading.piece(0, 9)
    await store.close()


async def test_a_file_that_changes_while_it_is_read_is_not_taken(partner, tmp_path):
    store = opened(partner.spec())
    await store.probe(b"larkfell/")
    entry = (await long_put(store, tmp_path, if_absent=True)).entry
    with pytest.raises(Changed):
        async with store.open(b"larkfell/long", entry) as reading:
            await reading.piece(0, 10)
            (tmp_path / "there" / "larkfell" / "long").write_bytes(LONG[::-1])
            await reading.piece(10, 10)
            await reading.verify()
    await store.close()


@pytest.mark.parametrize(
    "name, code",
    [
        ("SafeModeException", "store.busy"),
        ("StandbyException", "store.busy"),
        ("AlreadyBeingCreatedException", "in-use"),
        ("DSQuotaExceededException", "store.full"),
        ("AccessControlException", "store.refused"),
        ("SomethingElse", "store.refused"),
    ],
)
async def test_refusals_are_told_in_our_words(partner, tmp_path, name, code):
    store = opened(partner.spec())
    partner.refuses["CREATE"] = name
    with pytest.raises(StoreError) as caught:
        await put(store, b"x", b"1", if_absent=True)
    assert caught.value.code == code and there(tmp_path) == {}
    await store.close()


async def test_names_that_it_can_not_hold_and_links(partner, tmp_path):
    (tmp_path / "outside").write_bytes(b"outside")
    store = opened(partner.spec())
    assert store.unfit(b"a:b") and store.unfit(b"\xff") and not store.unfit("é ?*".encode())
    (tmp_path / "there" / "larkfell" / "link").symlink_to(tmp_path / "outside")
    found = {e.key: e.fault async for page in store.list(b"larkfell/") for e in page}
    assert found == {b"link": "not-a-file"}
    await store.close()


async def test_permissions_go_along(partner, tmp_path):
    store = opened(partner.spec())
    await store.probe(b"larkfell/")
    await put(store, b"x", b"1", extra=Extra(0o640), if_absent=True)
    assert (tmp_path / "there" / "larkfell" / "x").stat().st_mode & 0o777 == 0o640
    async with store.open(b"larkfell/x") as reading:
        assert (await reading.besides(Keep(permissions=True))).mode == 0o640
    await store.close()


SAME, OTHER = b"1" * 3000, b"1" * 2999 + b"2"


@pytest.mark.parametrize(
    "content, habits, refused, answer, is_read",
    [
        (SAME, {}, "", LookAnswer.EQUAL, False),
        (SAME, {"block": 1024}, "", LookAnswer.EQUAL, True),  # other sums of the same content
        (SAME, {}, "UnsupportedOperationException", LookAnswer.EQUAL, True),
        (OTHER, {}, "", LookAnswer.DIFFERS, True),
    ],
)
async def test_contents_are_compared_by_its_own_sums_where_blocks_lie_alike(
    tmp_path, content, habits, refused, answer, is_read
):
    with one(tmp_path / "a") as here, one(tmp_path / "b", **habits) as other:
        if refused:
            other.refuses["GETFILECHECKSUM"] = refused
        stores = [opened(here.spec()), opened(other.spec())]
        entries = [
            (await put(store, b"x", body)).entry
            for store, body in zip(stores, (SAME, content), strict=True)
        ]
        here.asked.clear()
        pair = Pair(stores[0], AT + b"x", entries[0], stores[1], AT + b"x", entries[1])
        assert (await compare_contents(pair, Comparison.CHECKSUM))[0] is answer
        assert ("_datanode OPEN" in here.asked) == is_read
        changed = pair._replace(entry=entries[0]._replace(modified_ns=1))
        with pytest.raises(Changed):
            await compare_contents(changed, Comparison.CHECKSUM)
        for store in stores:
            await store.close()


@pytest.mark.parametrize(
    "made, counts",
    [
        ("MD5-of-0MD5-of-512CRC32C", True),
        ("MD5-of-262144MD5-of-512CRC32", True),
        ("MD5-of-0MD5-of-0CRC32", False),
        ("MD5-of-0MD5-of-512NULL", False),  # the same whatever the content
        ("COMPOSITE-CRC32C", False),  # of 32 bits in all
    ],
)
def test_only_sums_that_prove_something_count(made, counts):
    told = {"algorithm": made, "bytes": "00ff" * 14, "length": 28}
    assert sum_of(told) == (OwnSum(made, "00ff" * 14) if counts else None)


@repeat
def test_fifty_thousand_names_come_in_order_and_little_memory(partner, tmp_path):
    os.rmdir(tmp_path / "there" / "larkfell")
    count, grown_kib = listed_of_many(partner.spec(), tmp_path / "there")
    assert count == MANY and grown_kib < 30_000


async def test_a_listing_in_parts_is_whole(partner, tmp_path):
    for n in range(2500):
        (tmp_path / "there" / "larkfell" / f"{n:05}").touch()
    store = opened(partner.spec())
    assert await names(store) == [b"%05d" % n for n in range(2500)]
    assert partner.asked["_namenode LISTSTATUS_BATCH"] == 3
    await store.close()
