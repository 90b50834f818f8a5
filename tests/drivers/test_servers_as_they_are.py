"""What other makers' servers do: tokens that are no XML, probes among a user's objects, pauses,
silence, lost answers.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import time

import pytest

from pinecart.core.checksum import crc_of
from pinecart.core.entries import Entry
from pinecart.core.errors import (
    Busy,
    Changed,
    Incomplete,
    Refused,
    SignInRefused,
    StoreError,
    Taken,
)
from pinecart.core.ports import HELD_BYTES, OF_A_PROBE, Put, WriteStamp
from pinecart.drivers import open_store
from pinecart.drivers.folder.kernel import Kernel
from pinecart.drivers.folder.store import FolderStore
from pinecart.drivers.s3 import wire_errors as s3_wire_errors
from pinecart.standins.bucket_behaviour import Behaviour
from pinecart.standins.faulty import BadLine
from tests.drivers.test_s3 import InPieces, opened, standin  # noqa: F401 - a fixture
from tests.runner.engine import Journal
from tests.servers.small_server import SmallHandler, SmallServer

AT = b"larkfell/"


def small(name, body=b"song", **more):
    return Put(
        AT + name, len(body), body, WriteStamp("d", None, crc_of(body)), if_absent=True, **more
    )


async def listed(store, **how):
    return [entry.key async for page in store.list(AT, **how) for entry in page]


@pytest.mark.parametrize("first", ["\x01", "\x1f/x"])
async def test_a_token_with_a_control_character_does_not_end_the_listing(standin, first):  # noqa: F811
    server, endpoint = standin
    server.old = frozenset({"token-raw"})
    names = [first + "before", *(f"{first}{n:04}" for n in range(1500)), "zz"]
    for name in names:
        server.shelf.put("larkfell", name, b"", {})
    store = opened(endpoint)
    await store.check_place(AT)  # asks for one name
    assert await listed(store) == sorted(name.encode() for name in names)
    await store.close()


async def test_a_request_that_came_too_slowly_is_sent_again(standin):  # noqa: F811
    server, endpoint = standin
    store = opened(endpoint)
    await store.probe(AT)
    server.behaviour["put"] = Behaviour(fail="RequestTimeout", times=1)
    with pytest.raises(Busy, match="in time"):
        await store.put(small(b"x"))
    assert (await store.put(small(b"x"))).entry.size == 4
    await store.close()


async def test_a_pause_that_is_asked_for_binds_the_whole_store(standin):  # noqa: F811
    """The stand-in asks for one second with each slow-down."""
    server, endpoint = standin
    store = opened(endpoint, retry={"times": 1})
    server.behaviour["head"] = Behaviour(fail="SlowDown", times=1)
    with pytest.raises(Busy):
        await store.stat(AT + b"x")
    asked = server.counts.total()
    began = time.monotonic()
    other = asyncio.create_task(listed(store))
    assert store.rests_s > 0.5
    await other
    assert time.monotonic() - began > 0.5 and server.counts.total() == asked + 1
    store.rest(10**12)
    assert store.rests_s <= 300
    await store.close()


@pytest.mark.parametrize(
    "fails, error, code",
    [
        ({"head": "AccessDenied", "get": "AccessDenied"}, Refused, "store.refused"),
        ({"head": "ExpiredToken", "get": "ExpiredToken"}, SignInRefused, "store.key-expired"),
        ({"head": "AccessDenied"}, Busy, "store.busy"),
    ],
)
async def test_a_look_that_is_refused_says_whether_it_is_the_key(standin, fails, error, code):  # noqa: F811
    """The answer itself has no words."""
    server, endpoint = standin
    store = opened(endpoint, retry={"times": 1})
    await store.put(small(b"x"))
    server.behaviour.update({kind: Behaviour(fail=fail) for kind, fail in fails.items()})
    for look in (store.stat, store.is_absent):
        with pytest.raises(error) as refused:
            await look(AT + b"x")
        assert type(refused.value) is error and refused.value.code == code
    await store.close()


@pytest.mark.parametrize("told", ["999999999999", "soon", "-1", "1e9"])
def test_a_wish_to_wait_that_is_none_is_not_heard(told):
    error = s3_wire_errors.error_from(503, {"Retry-After": told}, b"", what="Writing x")
    assert isinstance(error, Busy) and error.wait_s is None


LISTED = (
    "<ListBucketResult><KeyCount>{count}</KeyCount><IsTruncated>{more}</IsTruncated><EncodingType>url</EncodingType><Contents><Key>{key}</Key>"
    "<LastModified>{at}</LastModified><ETag>&quot;x&quot;</ETag><Size>{size}</Size></Contents></ListBucketResult>"
)
TRUE = {"count": "1", "more": "false", "key": "a", "at": "2026-03-02T05:30:00Z", "size": "3"}
LIES = [
    {"size": "NaN"},
    {"size": "-3"},
    {"size": "9" * 30},
    {"size": "9" * 5000},
    {"size": "1e9"},
    {"size": "٣"},
    {"at": "yesterday"},
    {"at": "2026-13-45T99:99:99Z"},
    {"count": "many"},
    {"count": "-1"},
    {"count": "9" * 5000},
    {"more": "true"},
    {"count": "7"},
]


@contextlib.asynccontextmanager
async def raw_server(answer):
    """Sends the same bytes to whoever asks."""

    async def answered(reader, writer):
        with contextlib.suppress(ConnectionError, asyncio.IncompleteReadError):
            while True:
                await reader.readuntil(b"\r\n\r\n")
                writer.write(answer)
                await writer.drain()
        writer.close()

    async with await asyncio.start_server(answered, "127.0.0.1", 0) as server:
        yield f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}"


def whole(body, *lines, status="200 OK"):
    return "\r\n".join(
        [f"HTTP/1.1 {status}", f"Content-Length: {len(body.encode())}", *lines, "", body]
    ).encode()


@pytest.mark.parametrize("lie", LIES, ids=lambda lie: str(lie)[:40])
async def test_a_listing_that_lies_is_a_problem_of_its_store(lie):
    async with raw_server(whole(LISTED.format(**TRUE | lie))) as at:
        store = opened(at, retry={"times": 1})
        with pytest.raises((StoreError, Incomplete)):
            await listed(store)
        await store.close()


async def test_a_listing_that_is_nested_without_end_is_a_problem_of_its_store():
    async with raw_server(whole("<a>" * 100_000)) as at:
        store = opened(at, retry={"times": 1})
        with pytest.raises(StoreError):
            await listed(store)
        await store.close()


@pytest.mark.parametrize("at", ["9999-12-31T23:59:59Z", "0001-01-01T00:00:00Z"])
async def test_a_time_beyond_all_clocks_is_none(at):
    async with raw_server(whole(LISTED.format(**TRUE | {"at": at}))) as endpoint:
        store = opened(endpoint)
        assert [e.modified_ns async for page in store.list(b"larkfell/") for e in page] == [None]
        await store.close()


@pytest.mark.parametrize(
    "answer",
    [
        whole("", f"X-Long: {'x' * (9 << 20)}"),
        whole("", *[f"X-Many-{n}: {'x' * 1000}" for n in range(9_000)]),
        b"HTTP/1.1 200 OK\r\nContent-Length: many\r\n\r\n",
        b"HTTP/1.1 200 OK\r\nContent-Length: -3\r\n\r\n",
        b"HTTP/1.1 999 \xff\xfe\r\nContent-Length: 0\r\n\r\n",
        b"HTTP/1.1 OK\r\nContent-Length: 0\r\n\r\n",
        b"\x00" * 3000,
        whole("", "Retry-After: 999999999999", status="503 Slow Down"),
    ],
    ids=[
        "a long header",
        "many headers",
        "no length",
        "negative",
        "odd status",
        "no status",
        "zeros",
        "wait for ever",
    ],
)
async def test_an_answer_that_is_none_is_a_problem_of_its_store(answer):
    async with raw_server(answer) as at:
        store = opened(at, retry={"times": 1})
        began = time.monotonic()
        for call in (lambda: store.stat(b"larkfell/a"), lambda: listed(store)):
            with pytest.raises((StoreError, Incomplete)):
                await call()
        assert time.monotonic() - began < 10 and store.rests_s <= 300
        await store.close()


@pytest.mark.parametrize(
    "status, code, told, kind",
    [
        (403, "InvalidObjectState", "store.archived", Refused),
        (404, "NoSuchUpload", "store.busy", Busy),
        (409, "OperationAborted", "store.busy", Busy),
        (400, "IncompleteBody", "store.busy", Busy),
        (403, "RequestExpired", "store.clock", Refused),
        (403, "QuotaExceeded", "store.full", Refused),
        (507, "OfItsOwn", "store.full", Refused),
        (429, "OfItsOwn", "store.busy", Busy),
        (412, "OfItsOwn", "store.not-as-planned", Taken),
        (403, "OfItsOwn", "store.refused", Refused),
        (418, "OfItsOwn", "store.refused", Refused),
        (520, "OfItsOwn", "store.busy", Busy),
    ],
)
def test_a_refusal_is_known_by_its_code_or_else_its_status(status, code, told, kind):
    body = f"<Error><Code>{code}</Code><Message>So it says.</Message></Error>".encode()
    error = s3_wire_errors.error_from(status, {}, body, what="Writing x")
    assert type(error) is kind and error.code == told
    assert f"({status} {code}: So it says.)" in error.message


def test_an_empty_refusal_says_what_was_asked():
    error = s3_wire_errors.error_from(
        400, {}, b"<Error><Code></Code><Message></Message></Error>", what="Writing pine://a/b"
    )
    assert (
        isinstance(error, Refused)
        and error.message == "Writing pine://a/b: the server refused (400)."
    )


async def test_names_that_do_not_fit_are_known_before_they_are_sent(standin, tmp_path):  # noqa: F811
    store = opened(standin[1])
    assert not store.unfit(AT + b"x" * 1024) and "1,024" in store.unfit(AT + b"x" * 1025)
    assert "UTF-8" in store.unfit(AT + b"\xff")
    folder = open_store({"kind": "folder", "name": "posts", "path": str(tmp_path)})
    assert (
        not folder.unfit(b"a/" * 500 + b"x")
        and "255" in folder.unfit(b"x" * 256)
        and ".." in folder.unfit(b"../x")
    )
    await store.close()


@pytest.mark.parametrize(
    "old", [(), ("checksums-ignored",), ("checksums-ignored", "conditions-ignored")]
)
async def test_a_bucket_that_keeps_versions_keeps_none_of_a_probe(standin, old):  # noqa: F811
    server, endpoint = standin
    server.old = frozenset(old)
    server.shelf.versioned.add("larkfell")
    store = opened(endpoint)
    await store.probe(AT)
    assert not server.shelf.buckets["larkfell"] and not server.shelf.past
    probes = server.counts["put"]
    again = opened(endpoint, abilities=store.learned())
    assert await again.probe(AT) == await store.abilities(AT) and server.counts["put"] == probes
    for each in (store, again):
        await each.close()


async def test_a_copy_replaces_nothing_where_only_writes_take_notice_of_conditions(standin):  # noqa: F811
    server, endpoint = standin
    server.old = frozenset({"conditions-of-writes-alone"})
    store, journal = opened(endpoint), Journal()
    await store.probe(AT)
    source = await store.put(small(b"x"))
    await store.put(small(b"theirs", b"theirs"))
    with pytest.raises(Taken):
        await store.copy(small(b"theirs", uploads=journal), store, AT + b"x", source.entry)
    placed = await store.copy(small(b"y", uploads=journal), store, AT + b"x", source.entry)
    assert not placed.guarded and {token for token, *_ in journal.rows.values()} == {OF_A_PROBE}
    assert (await store.stat(AT + b"theirs")).entry.size == len(b"theirs")
    assert await listed(store) == [b"theirs", b"x", b"y"]
    again = opened(endpoint, abilities=store.learned())
    writes = server.counts["put"]
    await again.copy(small(b"z"), again, AT + b"x", source.entry)
    assert server.counts["put"] == writes
    server.shelf.put("larkfell", "x", b"other", {})
    with pytest.raises(Changed):
        await store.copy(small(b"late", uploads=journal), store, AT + b"x", source.entry)
    assert await listed(store) == [b"theirs", b"x", b"y", b"z"]
    for each in (store, again):
        await each.close()


@pytest.mark.parametrize("old", [set(), {"conditions-of-writes-alone"}])
async def test_a_source_that_changes_while_it_is_copied_in_parts_is_no_object(standin, old):  # noqa: F811
    server, endpoint = standin
    server.old |= old
    server.shelf.put("larkfell", "x", b"song", {}, "abc-1")
    server.behaviour["part"] = Behaviour(delay_s=0.2)
    store, journal = opened(endpoint), Journal()
    entry = (await store.stat(AT + b"x")).entry
    copying = asyncio.create_task(store.copy(small(b"y", uploads=journal), store, AT + b"x", entry))
    while not server.counts["part"]:
        await asyncio.sleep(0.01)
    server.shelf.put("larkfell", "x", b"gong", {}, "def-1")
    with pytest.raises(Changed):
        await copying
    assert await listed(store) == [b"x"] and not server.shelf.uploads and not journal.rows
    await store.close()


@pytest.mark.parametrize("old", [set(), {"conditions-of-writes-alone"}])
async def test_an_object_of_parts_replaces_nothing(standin, old):  # noqa: F811
    server, endpoint = standin
    server.old |= old
    store, journal, body = opened(endpoint), Journal(), b"x" * (HELD_BYTES + 1)
    await store.probe(AT)
    server.shelf.put("larkfell", "theirs", b"theirs", {})
    long = Put(b"", len(body), InPieces(body), WriteStamp("d", None, ""), True, uploads=journal)
    with pytest.raises(Taken):
        await store.put(long._replace(key=AT + b"theirs"))
    assert server.shelf.body("larkfell", "theirs") == b"theirs"
    completed = server.counts["complete"]
    placed = await store.put(long._replace(key=AT + b"ours"))
    assert placed.guarded is not bool(old) and server.counts["complete"] == completed + 1
    assert await listed(store) == [b"ours", b"theirs"]
    assert not journal.rows and not server.shelf.uploads
    await store.close()


@pytest.mark.parametrize(
    "old, plain, others",
    [
        ("", True, True),
        ("conditions-of-writes-alone", True, False),
        ("conditions-ignored", False, False),
        ("conditions-refused", False, False),
        ("conditions-of-another-etag", False, False),
    ],
)
async def test_what_is_replaced_is_guarded_where_conditions_are_held(standin, old, plain, others):  # noqa: F811
    server, endpoint = standin
    server.old |= {old} - {""}
    store, journal = opened(endpoint), Journal()
    await store.probe(AT)
    source = (await store.put(small(b"source"))).entry
    body = b"x" * (HELD_BYTES + 1)
    card = WriteStamp("d", None, "")
    long = Put(AT + b"x", len(body), InPieces(body), card, uploads=journal)
    plainly = small(b"x")._replace(if_absent=False)
    copied = plainly._replace(uploads=journal)
    for write, guards in (
        (lambda expected: store.put(plainly._replace(expected=expected)), plain),
        (lambda expected: store.put(long._replace(expected=expected)), others),
        (
            lambda expected: store.copy(
                copied._replace(expected=expected), store, AT + b"source", source
            ),
            others,
        ),
    ):
        server.shelf.put("larkfell", "x", b"before", {})
        first = await write((await store.stat(AT + b"x")).entry)
        second = await write(first.entry)
        assert (first.guarded, second.guarded) == (guards, guards)
        server.shelf.put("larkfell", "x", b"theirs", {})
        with pytest.raises(Taken):
            await write(second.entry)
        server.shelf.delete("larkfell", "x")
        with pytest.raises(Taken):
            await write(second.entry)
    assert await listed(store) == [b"source"] and not server.shelf.uploads
    await store.close()


async def test_what_is_removed_is_removed_where_a_condition_is_held_against_another_etag(standin):  # noqa: F811
    server, endpoint = standin
    server.old = frozenset({"conditions-of-another-etag"})
    store = opened(endpoint)
    entries = [(await store.put(small(name))).entry for name in (b"x", b"y", b"z")]
    assert not await store.remove(AT + b"x", entries[0])
    asked = server.counts["delete"]
    assert not await store.remove(AT + b"y", entries[1])
    assert server.counts["delete"] == asked + 1, "it is remembered"
    server.shelf.put("larkfell", "z", b"theirs", {})
    with pytest.raises(Taken):
        await store.remove(AT + b"z", entries[2])
    assert await listed(store) == [b"z"]
    await store.close()


@pytest.mark.parametrize("old", ["", "conditions-ignored"])
async def test_a_probe_that_was_written_stays_journalled_to_the_end_of_its_run(standin, old):  # noqa: F811
    """Over a bad line it may come once more, after it was taken away."""
    server, endpoint = standin
    server.old |= {old} - {""}
    store, journal = opened(endpoint), Journal()
    await store.probe(AT, journal)
    assert len(journal.rows) == bool(old) and await listed(store) == []
    await store.close()


async def test_a_store_that_knows_one_condition_alone_guards_by_that(standin):  # noqa: F811
    server, endpoint = standin
    server.old = frozenset({"if-match-unknown"})
    store = opened(endpoint)
    assert (await store.probe(AT)).create_only and await listed(store) == []
    first = await store.put(small(b"x"))
    with pytest.raises(Taken):
        await store.put(small(b"x", b"second"))
    replacing = small(b"x")._replace(if_absent=False, expected=first.entry)
    assert first.guarded and not (await store.put(replacing)).guarded
    await store.close()


async def test_a_store_that_is_known_already_learns_at_its_first_replacement(standin):  # noqa: F811
    server, endpoint = standin
    learned_long_ago = {"larkfell": {"checksum": "crc64nvme", "create_only": True}}
    store, journal = opened(endpoint, abilities=learned_long_ago), Journal()
    put = small(b"x", uploads=journal)._replace(if_absent=False)
    entry = (await store.put(small(b"x"))).entry
    asked = server.counts["put"]
    for more in (2, 1):  # one of them is the question
        placed = await store.put(put._replace(expected=entry))
        entry, asked = placed.entry, asked + more
        assert placed.guarded and server.counts["put"] == asked
    assert await listed(store) == [b"x"] and not journal.rows
    await store.close()


@pytest.mark.parametrize("fault", [{"fail": "AccessDenied"}, {"lost": True, "times": 1}])
@pytest.mark.parametrize("kind", ["put", "start-upload", "part", "complete", "abort", "delete"])
async def test_what_a_probe_may_leave_is_journalled(standin, kind, fault):  # noqa: F811
    server, endpoint = standin
    journal, store, body = Journal(), opened(endpoint), b"x" * (HELD_BYTES + 1)
    await store.probe(AT)
    server.behaviour[kind] = Behaviour(match=".pinecart-probe", **fault)
    long = Put(AT + b"long", len(body), InPieces(body), WriteStamp("d", None, ""), True)
    for _ in range(2):
        with contextlib.suppress(Busy, Taken):
            await store.put(long._replace(uploads=journal))
    left = {AT + upload.key.encode() for upload in server.shelf.uploads.values()}
    left |= {AT + key for key in await listed(store)} - {AT + b"long"}
    assert left <= set(journal.rows)
    server.behaviour.clear()
    for key, (_, since, _) in list(journal.rows.items()):
        await store.clear_uploads(key, since)
    assert not server.shelf.uploads and set(await listed(store)) <= {b"long"}
    await store.close()


async def test_a_key_that_may_write_and_not_delete_writes(standin):  # noqa: F811
    """What it could not take away is asked for once, and journalled."""
    server, endpoint = standin
    server.old = frozenset({"checksums-ignored"})
    server.behaviour["delete"] = Behaviour(fail="AccessDenied")
    store, journal = opened(endpoint), Journal()
    await store.probe(AT, journal)
    (left,) = journal.rows
    source = await store.put(small(b"x"))
    await store.copy(small(b"y", uploads=journal), store, AT + b"x", source.entry)
    assert await listed(store) == [left.removeprefix(AT), b"x", b"y"] and [*journal.rows] == [left]
    with pytest.raises(Refused):
        await store.clear_uploads(left, journal.rows[left][1])
    server.behaviour.clear()
    await store.clear_uploads(left, journal.rows[left][1])
    assert await listed(store) == [b"x", b"y"]
    await store.close()


async def test_a_probe_whose_answer_was_lost_is_journalled_until_it_is_gone(standin):  # noqa: F811
    server, endpoint = standin
    server.old = frozenset({"checksums-ignored"})
    journal, store = Journal(), opened(endpoint)
    server.behaviour["put"] = Behaviour(lost=True, match=".pinecart-probe")
    with pytest.raises(Busy):
        await store.probe(AT, journal)
    (left,) = journal.rows
    assert left.removeprefix(AT).decode() in server.shelf.buckets["larkfell"]
    server.behaviour.clear()
    await store.clear_uploads(left, journal.rows[left][1])
    assert not server.shelf.buckets["larkfell"]
    await store.probe(AT, journal)
    assert left in journal.rows and len(journal.rows) == 2  # of one that was written, too
    assert not server.shelf.buckets["larkfell"]
    await store.close()


async def test_an_upload_that_could_not_be_aborted_stays_journalled(standin):  # noqa: F811
    server, endpoint = standin
    journal, store, body = Journal(), opened(endpoint), b"x" * (HELD_BYTES + 1)
    await store.probe(AT)
    put = Put(
        AT + b"long",
        len(body),
        InPieces(body),
        WriteStamp("d", None, ""),
        if_absent=True,
        uploads=journal,
    )
    server.behaviour["part"] = Behaviour(fail="AccessDenied")
    server.behaviour["abort"] = Behaviour(fail="InternalError")
    with pytest.raises(Refused):
        await store.put(put)
    assert list(journal.rows) == [AT + b"long"] and server.shelf.uploads
    server.behaviour["abort"] = Behaviour(
        fail="InternalError", times=1
    )  # one such answer is no reason to leave it
    with pytest.raises(Refused):
        await store.put(put)
    assert not server.shelf.uploads and not journal.rows
    await store.close()


async def test_an_upload_whose_start_was_answered_to_nobody_stays_journalled(standin):  # noqa: F811
    server, endpoint = standin
    journal, store, body = Journal(), opened(endpoint), b"x" * (HELD_BYTES + 1)
    await store.probe(AT)
    server.behaviour["start-upload"] = Behaviour(lost=True, times=1)
    server.behaviour["part"] = Behaviour(fail="AccessDenied")
    with pytest.raises(Refused):
        await store.put(
            Put(
                AT + b"long",
                len(body),
                InPieces(body),
                WriteStamp("d", None, ""),
                if_absent=True,
                uploads=journal,
            )
        )
    assert len(server.shelf.uploads) == 1 and list(journal.rows) == [AT + b"long"]
    await store.clear_uploads(AT + b"long", journal.rows[AT + b"long"][1])
    assert not server.shelf.uploads
    await store.close()


async def test_an_upload_is_no_older_than_its_journal_says_whoever_answered_last(standin):  # noqa: F811
    """It is told in whole seconds, and what had answered before it told no date at all."""
    server, endpoint = standin
    at = int(endpoint.rpartition(":")[2])
    busy = BadLine("127.0.0.1", at, 0, rate=1, kinds=("slow-down",), methods=("HEAD",))
    line, port = await busy.serve()
    journal, store = Journal(), opened(f"http://127.0.0.1:{port}")
    body = b"x" * (HELD_BYTES + 1)
    await store.probe(AT)
    with pytest.raises(Busy):
        await store.stat(AT + b"long")
    busy.rate = 0
    server.behaviour["start-upload"] = Behaviour(lost=True, times=1)
    stamp = WriteStamp("d", None, "")
    await store.put(
        Put(AT + b"long", len(body), InPieces(body), stamp, if_absent=True, uploads=journal)
    )
    assert len(server.shelf.uploads) == 1 and list(journal.rows) == [AT + b"long"]
    await store.clear_uploads(AT + b"long", journal.rows[AT + b"long"][1])
    assert not server.shelf.uploads
    await store.close()
    line.close()


async def test_an_upload_begun_twice_stays_journalled_also_when_it_is_taken_up(standin):  # noqa: F811
    """The first start's answer was lost, a part was too slow, and the next try goes on and ends."""
    server, endpoint = standin
    journal, store, body = Journal(), opened(endpoint), b"x" * (HELD_BYTES + 1)
    await store.probe(AT)
    stamp = WriteStamp("d", None, "")
    put = Put(AT + b"long", len(body), InPieces(body), stamp, if_absent=True, uploads=journal)
    server.behaviour["start-upload"] = Behaviour(lost=True, times=1)
    server.behaviour["part"] = Behaviour(fail="RequestTimeout")
    with pytest.raises(Busy):
        await store.put(put)
    server.behaviour.clear()
    assert (await store.put(put)).entry.size == len(body)
    assert len(server.shelf.uploads) == 1 and list(journal.rows) == [AT + b"long"]
    await store.clear_uploads(AT + b"long", journal.rows[AT + b"long"][1])
    assert not server.shelf.uploads
    await store.close()


async def test_what_lay_below_a_folder_that_is_a_file_now_is_definitely_gone(tmp_path):
    root = tmp_path / "posts"
    (root / "inner").mkdir(parents=True)
    (root / "was").write_text("a file now")
    (root / "link").symlink_to(tmp_path)
    store = FolderStore("posts", str(root))
    for key in (b"was/a", b"was/a/b", b"inner/" + b"n" * 256, b"nowhere/a"):
        assert await store.is_absent(key)
    with pytest.raises(Refused):  # nobody knows what lies behind a link
        await store.is_absent(b"link/posts")
    await store.close()


async def test_a_level_is_read_once_for_all_its_pages(tmp_path):
    root = tmp_path / "many"
    root.mkdir()
    for n in range(2500):
        (root / f"{n:05}").touch()
    os.utime(root, (1_700_000_000, 1_700_000_000))
    reads = []

    class Counted(Kernel):
        def entries(self, fd):
            reads.append(fd)
            return super().entries(fd)

    names, after = [], b""
    while True:
        store = FolderStore("many", str(root), kernel=Counted())
        level = await store.level(b"", after=after, limit=100)
        names += [e.key for e in level.entries]
        await store.close()
        if not (after := level.after):
            break
    assert names == [f"{n:05}".encode() for n in range(2500)] and len(reads) == 1
    (root / "00000a").touch()
    os.utime(root, (1_700_000_001, 1_700_000_001))
    store = FolderStore("many", str(root))
    assert (await store.level(b"", after=b"00000", limit=1)).entries[0].key == b"00000a"
    await store.close()


class CacheHandler(SmallHandler):
    def do_HEAD(self):
        self.answer(200, {"ETag": '"e"', "Content-Length": "16"}, b"")

    def do_GET(self):
        self.answer(206, dict(self.storage.told), b"song")


class Cache(SmallServer):
    """Between us and a store, with ideas of its own: it gives four bytes, whatever is asked for."""

    handler = CacheHandler
    told: dict[str, str]


@pytest.mark.parametrize(
    "told, error, code",
    [
        ({"ETag": '"e"', "Content-Range": "bytes 4-7/16"}, None, ""),
        ({"Content-Range": "Bytes 4-7/*"}, None, ""),
        ({"ETag": 'W/"e"'}, None, ""),
        ({"ETag": '"e"', "Content-Range": "bytes 0-3/16"}, Busy, "store.garbled"),
        ({"ETag": '"e"', "Content-Range": "bytes 4-8/16"}, Busy, "store.garbled"),
        ({"ETag": '"f"', "Content-Range": "bytes 4-7/16"}, Changed, "keeps-changing"),
    ],
)
async def test_another_part_or_another_files_part_is_not_taken(told, error, code):
    with Cache() as cache:
        cache.told = told
        store = opened(cache.url, retry={"times": 1})
        refused = pytest.raises(error) if error else contextlib.nullcontext()
        async with store.open(AT + b"x", Entry(AT + b"x", 16, None, "e")) as reading:
            with refused as found:
                assert await reading.piece(4, 4) == b"song"
        assert not found or found.value.code == code
        await store.close()
