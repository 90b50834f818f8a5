"""The s3 driver against the stand-in: the contract, and what the protocol's faults become."""

from __future__ import annotations

import asyncio
import random
import socket
import xml.etree.ElementTree as ET
from urllib.parse import quote
from xml.sax.saxutils import escape

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pinecart.core.checksum import crc_of
from pinecart.core.entries import Entry
from pinecart.core.errors import (
    Busy,
    Changed,
    Incomplete,
    Missing,
    PinecartError,
    Refused,
    SignInRefused,
    StoreError,
    Unsafe,
)
from pinecart.core.ports import HELD_BYTES, Put, WriteStamp
from pinecart.drivers import open_store
from pinecart.drivers.addresses import Allowed
from pinecart.drivers.s3 import wire as s3_wire
from pinecart.drivers.s3.sizes import Sizes
from pinecart.drivers.s3.store import S3Store
from pinecart.drivers.s3.wire import parse_page
from pinecart.drivers.transport import Transport
from pinecart.standins.bucket_behaviour import Behaviour
from pinecart.standins.bucket_shelf import Upload
from tests.contracts.store import StoreContract, names
from tests.standin import KEY, SECRET, running


@pytest.fixture
def standin():
    with running("larkfell") as (server, endpoint):
        yield server, endpoint


def opened(at, **changes):
    spec = {
        "kind": "s3",
        "name": "office",
        "endpoint": at,
        "key_id": KEY,
        "secret": SECRET,
        "allowed": ["127.0.0.0/8"],
    }
    return open_store(spec | {"retry": {"times": 3, "first_s": 0.01}} | changes)


@pytest.mark.parametrize(
    "name",
    ["127.0.0.1:19999#", "a?b", "x@y", "a b", "..", "-x-", "UPPER", "a..b", "x:1", "é", "a" * 64],
)
async def test_no_name_sends_a_signed_request_to_another_host(standin, name):
    """Where buckets stand in front of the host, what looks like an address isn't one."""
    _, endpoint = standin
    with socket.create_server(("127.0.0.1", 0)) as other:
        other.settimeout(0.2)
        for address in (name, f"127.0.0.1:{other.getsockname()[1]}{name[-1]}"):
            store = opened(endpoint, addressing="host")
            with pytest.raises(Unsafe):
                await store.level(address.encode() + b"/")
            await store.close()
        with pytest.raises(TimeoutError):
            other.accept()


@pytest.mark.parametrize("name", ["a?b", "x@y", "a b", "..", "x:1", "%2e", "a#"])
async def test_a_bucket_name_in_a_path_is_checked_too(standin, name):
    store = opened(standin[1])
    with pytest.raises(Unsafe, match="can't be a bucket's name"):
        await store.level(name.encode() + b"/")
    await store.close()


@pytest.mark.parametrize(
    ("host", "target"),
    [
        ("127.0.0.1:1#.store.invalid:9000", "/"),
        ("evilstore.invalid:9000", "/"),
        ("a@store.invalid:9000", "/"),
        ("elsewhere.invalid", "/"),
        (".store.invalid:9000", "/"),
        ("a..store.invalid:9000", "/"),
        ("store.invalid:9000", "@elsewhere.invalid/"),
        ("store.invalid:9000", "/a#b"),
        ("store.invalid:9000", "/a b"),
        ("store.invalid:9000", "/a\r\nb"),
        ("store.invalid:9000", ""),
    ],
)
def test_the_transport_asks_no_other_host_whatever_its_driver_says(host, target):
    transport = Transport("http://store.invalid:9000", allowed=Allowed(()))
    with pytest.raises(Refused) as caught:
        transport._address(host, target)  # nothing is sent here: the rule is asked
    assert caught.value.code == "store.address-left"
    for fine in (
        "store.invalid:9000",
        "larkfell.store.invalid:9000",
        "lark.fell.store.invalid:9000",
    ):
        assert transport._address(fine, "/a?b=c") == f"http://{fine}/a?b=c"


class TestS3Store(StoreContract):
    @pytest.fixture
    async def store(self, standin):
        store = opened(standin[1])
        yield store
        await store.close()


@pytest.mark.parametrize(
    ("changes", "kind", "code"),
    [
        ({"key_id": "NOBODY"}, SignInRefused, "store.key-unknown"),
        ({"secret": "wrong"}, SignInRefused, "store.secret-wrong"),
        ({"root": "nowhere"}, Missing, "store.no-bucket"),
        ({"endpoint": "http://127.0.0.1:1"}, Busy, "store.unreachable"),
        ({"allowed": []}, Refused, "store.address-refused"),
        ({"endpoint": "http://localhost:1", "allowed": []}, Refused, "store.address-refused"),
        ({"endpoint": "http://169.254.1.1"}, Refused, "store.address-refused"),
    ],
)
async def test_what_goes_wrong_is_told_apart(standin, changes, kind, code):
    with pytest.raises(StoreError) as caught:
        store = opened(standin[1], root=changes.pop("root", "larkfell"), **changes)
        try:
            await store.check_place(b"")
        finally:
            await store.close()
    assert (
        type(caught.value).mro()[:3].count(kind) or caught.value.code == code
    ) and caught.value.code == code
    assert SECRET not in str(caught.value)


async def test_a_right_that_is_missing_is_said(standin):
    store = opened(standin[1], key_id="READER", secret="reader-secret")
    await store.check_place(b"larkfell/")
    with pytest.raises(Refused, match="may not do that"):
        await store.put(
            Put(b"larkfell/x", 1, b"1", WriteStamp("d", None, crc_of(b"1")), if_absent=True)
        )
    await store.close()


async def test_listing_pages_are_tried_again_and_then_given_up(standin):
    server, endpoint = standin
    store = opened(endpoint)
    server.behaviour["list"] = Behaviour(fail="InternalError", times=2)
    assert await names(store) == []
    server.behaviour["list"] = Behaviour(fail="SlowDown")
    with pytest.raises(Busy, match="slower"):
        await names(store)
    await store.close()


async def test_a_name_that_is_no_text_is_refused(standin):
    store = opened(standin[1])
    with pytest.raises(Unsafe, match="UTF-8"):
        await store.put(Put(b"larkfell/\xff", 1, b"1", WriteStamp("d", None, ""), if_absent=True))
    await store.close()


@pytest.mark.parametrize(
    "body",
    [
        b"<L><KeyCount>2</KeyCount><Contents><Key>a</Key><Size>1</Size></Contents></L>",
        b"<L><IsTruncated>true</IsTruncated></L>",
        b"<L><Contents><Key>a</Key>",
        b"<L><Contents><Key>elsewhere</Key></Contents></L>",
    ],
)
def test_a_page_that_contradicts_itself_is_not_believed(body):
    with pytest.raises(PinecartError, match=r"says|cut|not asked"):
        parse_page(body, prefix=b"x/" if b"elsewhere" in body else b"")


@given(
    st.lists(
        st.binary(min_size=1, max_size=30).filter(lambda k: b"\0" not in k),
        unique=True,
        min_size=1,
        max_size=20,
    ),
    st.booleans(),
)
def test_the_quick_reading_of_a_page_is_the_thorough_one(keys, more):
    """Any page that the quick reader takes on, it reads as the real parser does."""
    rows = "".join(
        f"<Contents><Key>{quote(k)}</Key><LastModified>2026-03-02T05:30:00.000Z</LastModified>"
        f"<ETag>&quot;{n:032x}&quot;</ETag><Size>{n}</Size><StorageClass>STANDARD</StorageClass></Contents>"
        for n, k in enumerate(sorted(keys))
    )
    token = "<NextContinuationToken>abc+/=</NextContinuationToken>" if more else ""
    body = (
        f"<ListBucketResult><Prefix></Prefix><KeyCount>{len(keys)}</KeyCount><EncodingType>url</EncodingType>"
        f"<IsTruncated>{str(more).lower()}</IsTruncated>{rows}{token}</ListBucketResult>"
    ).encode()
    quick = s3_wire._plain_page(body, b"")
    assert quick is not None and quick == s3_wire._any_page(body, b"")
    assert s3_wire._plain_page(body[:-5], b"") is None
    assert s3_wire._plain_page(body.replace(b"Contents", b"x:Contents"), b"") is None


WORDS, SIMPLE = (
    st.sampled_from(["ETag", "Code", "UploadId"]),
    st.text(st.characters(codec="utf-8"), max_size=9),
)


@given(
    st.sampled_from(["CopyObjectResult", "Error"]),
    st.lists(st.tuples(WORDS, SIMPLE)),
    st.sampled_from(["", "\n "]),
)
def test_the_quick_reading_of_an_answer_is_the_thorough_one(root, fields, between):
    inner = between.join(
        f"<{name}>{escape(text, {chr(34): '&quot;'})}</{name}>" for name, text in fields
    )
    body = (
        f'<?xml version="1.0"?>{between}<{root} xmlns="http://x/">{inner}{between}</{root}>'
    ).encode()
    try:
        parsed = ET.fromstring(body)
    except ET.ParseError:
        return
    assert s3_wire.root_of(body) == root
    for name, _ in fields:
        first = next(node.text or "" for node in parsed if node.tag == "{http://x/}" + name)
        assert s3_wire.text_of(body, name) == first


class InPieces:
    """A large source.

    asked: sizes of the pieces that were asked for.   fails_at: from the second reading on.   turns:
    so does another content.
    """

    def __init__(self, body, *, fails_at=None, turns=False):
        self.body, self.asked, self.fails_at, self.turns = body, [], fails_at, turns
        self.entry, self.card = Entry(b"long", len(body), None, "e"), None
        self.content_type, self.metadata = "", {}

    async def piece(self, start, size, into=None):
        self.asked.append(size)
        await asyncio.sleep(0.001)
        again = sum(self.asked) > len(self.body)
        if again and self.fails_at is not None and start >= self.fails_at:
            raise Changed("It changed while it was read.")
        found = self.body[start : start + size]
        return bytes(size) if again and self.turns else found

    async def verify(self, crc=""):
        """Every byte was of one content."""


def in_parts_of_20_mib(endpoint):
    store = opened(endpoint)
    return S3Store(store.client, store._facts, Sizes(part=20 << 20))


@pytest.mark.parametrize("old", [set(), {"checksums-ignored"}])
async def test_parts_that_are_too_large_to_be_held_are_streamed(standin, old):
    server, endpoint = standin
    server.old |= old
    store, body = in_parts_of_20_mib(endpoint), random.Random(2).randbytes(1 << 20) * 50 + b"end"
    source = InPieces(body)
    await store.probe(b"larkfell/")
    placed = await store.put(
        Put(b"larkfell/long", len(body), source, WriteStamp("d", None, ""), if_absent=True)
    )
    assert server.shelf.body("larkfell", "long") == body and placed.crc == crc_of(body)
    whole, last = (
        [s for s in source.asked if s <= HELD_BYTES],
        [s for s in source.asked if s > HELD_BYTES],
    )
    assert (
        sum(whole) == 2 * (40 << 20)
        and sum(last) == len(body) % (20 << 20)
        and server.counts["part"] == 3 + 1  # and one of a probe
    )
    await store.close()


@pytest.mark.parametrize(
    ("source", "treated", "error"),
    [
        ({"fails_at": 30 << 20}, None, Changed),
        ({"turns": True}, None, Changed),
        ({}, Behaviour(fail="AccessDenied"), Refused),
        ({}, Behaviour(fail="SlowDown"), Busy),
    ],
)
async def test_a_streamed_part_that_fails_leaves_nothing(standin, source, treated, error):
    server, endpoint = standin
    store, body = in_parts_of_20_mib(endpoint), random.Random(2).randbytes(1 << 20) * 50
    await store.probe(b"larkfell/")
    if treated:
        server.behaviour["part"] = treated
    with pytest.raises(error):
        await store.put(
            Put(
                b"larkfell/long",
                len(body),
                InPieces(body, **source),
                WriteStamp("d", None, ""),
                if_absent=True,
            )
        )
    assert not server.shelf.buckets["larkfell"] and not server.shelf.uploads
    assert (
        await store.put(Put(b"larkfell/after", 1, b"1", WriteStamp("d", None, crc_of(b"1"))))
    ).entry.size == 1
    await store.close()


async def test_uploads_of_a_name_are_found_on_every_page(standin):
    server, endpoint = standin
    server.most_keys = 2
    store = opened(endpoint)
    for key in ("x", "x", "x", "x y", "x+", "xy", "x", "other"):
        server.shelf.start_upload("larkfell", key, {})
    assert await store.clear_uploads(b"larkfell/x", "2020-01-01T00:00:00+00:00") == 4
    assert await store.clear_uploads(b"larkfell/x+", "2020-01-01T00:00:00+00:00") == 1
    left = sorted(upload.key for upload in server.shelf.uploads.values())
    assert left == ["other", "x y", "xy"]
    await store.close()


async def test_versions_of_a_name_are_found_on_every_page(standin):
    server, endpoint = standin
    server.shelf.versioned.add("larkfell")
    store = opened(endpoint)
    for key in ("x", "x y", "xy", "xz"):
        for n in range(5):
            server.shelf.put("larkfell", key, bytes(n), {}, f"e{n}")
    server.most_keys = 2
    found = await store.versions(b"larkfell/x")
    assert [(v.size, v.is_current) for v in found] == [
        (4, True),
        (3, False),
        (2, False),
        (1, False),
        (0, False),
    ]
    asked = server.counts["list-versions"]
    assert asked == 3, "what comes after is not asked for"
    await store.close()


async def test_parts_that_are_there_are_found_on_every_page(standin):
    server, endpoint = standin
    server.most_keys = 2
    store = opened(endpoint)
    upload = server.shelf.start_upload("larkfell", "long", {})
    for n in range(1, 6):
        server.shelf.uploads[upload].parts[n] = (f"e{n}", bytes(n), {})
    parts = S3Store(store.client, store._facts)._machines.parts
    found = await parts.there(b"larkfell/long", upload)
    assert found == {(n, n): f'"e{n}"' for n in range(1, 6)}
    await store.close()


async def test_a_level_goes_on_where_folders_come_again(standin):
    server, endpoint = standin
    server.old = frozenset({"folders-come-again"})
    store = opened(endpoint)
    for name in ("a.txt", "b/x", "b/y", "c/z", "d", "e/1", "f"):
        server.shelf.put("larkfell", name, b"", {})
    found, after = [], b""
    while after or not found:
        level = await store.level(b"larkfell/", after=after, limit=2)
        found += level.folders + [e.key for e in level.entries]
        after = level.after
    assert sorted(found) == [b"a.txt", b"b/", b"c/", b"d", b"e/", b"f"]
    listed = [e.key async for page in store.list(b"larkfell/", after=b"c") for e in page]
    assert listed == [b"c/z", b"d", b"e/1", b"f"]
    await store.close()


@pytest.mark.parametrize(
    "ask",
    [
        lambda store: store.versions(b"larkfell/x"),
        lambda store: store.clear_uploads(b"larkfell/x", "2020-01-01T00:00:00+00:00"),
        lambda store: store._machines.parts.there(b"larkfell/x", "0"),
    ],
    ids=["versions", "uploads", "parts"],
)
async def test_a_store_that_leads_in_circles_is_not_followed(standin, ask):
    server, endpoint = standin
    server.old, server.most_keys = frozenset({"listing-in-circles"}), 1
    server.shelf.versioned.add("larkfell")
    for n in range(3):
        server.shelf.put("larkfell", "x", b"1", {}, "e")
        server.shelf.put("larkfell", f"x{n}", b"1", {}, "e")
        parts = {1: ("e", b"1", {}), 2: ("e", b"1", {}), 3: ("e", b"1", {})}
        server.shelf.uploads[str(n)] = Upload("larkfell", "x", 0, {}, parts)
    store = opened(endpoint)
    with pytest.raises(Incomplete, match="circles"):
        await ask(store)
    await store.close()
