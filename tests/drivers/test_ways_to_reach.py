"""The many ways in which an object store is reached: regions, hosts, temporary keys, no key,
proxies, certificates.
"""

from __future__ import annotations

import asyncio
import socket
import ssl
import subprocess
import threading
import time

import pytest
import uvloop

from pinecart.core.errors import Busy, Refused, SignInRefused
from pinecart.drivers import try_store
from pinecart.drivers.addresses import Allowed
from pinecart.drivers.transport import Transport
from pinecart.standins.bucket_behaviour import Account
from pinecart.standins.bucket_server import BucketServer
from tests.contracts.store import names, put
from tests.drivers.test_s3 import opened
from tests.standin import KEY, SECRET, running


@pytest.fixture
def abroad():
    """A server of another region, with a temporary key beside the lasting one."""
    accounts = {KEY: Account(SECRET), "PASSING": Account("passing-secret", session="the-token")}
    with running("larkfell", server=BucketServer(accounts, region="pine-north-1")) as (
        server,
        endpoint,
    ):
        yield server, endpoint


async def reached(store):
    try:
        await put(store, b"x", b"song")
        return await names(store)
    finally:
        await store.close()


async def test_the_region_is_found_where_nobody_gave_it_and_told_where_it_is_wrong(abroad):
    assert await reached(opened(abroad[1])) == [b"x"]
    with pytest.raises(Refused, match="pine-north-1") as caught:
        await reached(opened(abroad[1], region="us-east-1"))
    assert caught.value.code == "store.region"


async def test_content_is_signed_over_plain_http_unless_the_store_says_otherwise():
    seen = []

    class Told(BucketServer):
        async def handle(self, request):
            if request.method == "PUT":
                seen.append(request.headers["x-amz-content-sha256"])
            return await super().handle(request)

    with running("larkfell", server=Told({KEY: Account(SECRET)})) as (_, endpoint):
        for choice, unsigned in (({}, False), ({"sign_payload": "no"}, True)):
            seen.clear()
            assert await reached(opened(endpoint, **choice)) == [b"x"]
            assert seen and all((told == "UNSIGNED-PAYLOAD") is unsigned for told in seen)


async def test_a_temporary_key_needs_its_token(abroad):
    passing = {"key_id": "PASSING", "secret": "passing-secret"}
    assert await reached(opened(abroad[1], **passing, session_token="the-token")) == [b"x"]
    with pytest.raises(SignInRefused, match="token"):
        await reached(opened(abroad[1], **passing))


async def test_without_a_key_what_is_open_can_be_read(abroad):
    abroad[0].open_to_all = True
    abroad[0].shelf.put("larkfell", "open", b"1", {})
    store = opened(abroad[1], anonymous="true", key_id="", secret="")
    assert await names(store) == [b"open"]
    with pytest.raises(Refused, match="may not"):
        await reached(store)


async def test_the_bucket_in_front_of_the_host(abroad):
    port = abroad[1].rpartition(":")[2]  # any name below localhost is this machine (RFC 6761)
    assert await reached(opened(f"http://localhost:{port}", addressing="host")) == [b"x"]


async def test_a_new_key_is_used_from_the_next_request_on(abroad):
    store = opened(abroad[1])
    await put(store, b"x", b"1")
    abroad[0].accounts["LATER"] = Account("later-secret")
    del abroad[0].accounts[KEY]
    store.renew({"key_id": "LATER", "secret": "later-secret"})
    assert await reached(store) == [b"x"]


class Raw:
    """A bare server: `treat` gets each connection."""

    def __init__(self, treat, context=None):
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.port = self.listener.getsockname()[1]
        self.treat, self.context, self.held = treat, context, []
        threading.Thread(target=self.serve, daemon=True).start()

    def serve(self):
        while True:
            try:
                connection, _ = self.listener.accept()
                self.held.append(connection)
                if self.context:
                    connection = self.context.wrap_socket(connection, server_side=True)
                self.treat(connection)
            except OSError:
                if self.listener.fileno() < 0:
                    return


@pytest.fixture
def raw():
    made = []

    def make(*args):
        made.append(Raw(*args))
        return made[-1].port

    yield make
    for server in made:
        server.listener.close()


def spec(endpoint, **more):
    return {
        "kind": "s3",
        "name": "x",
        "endpoint": endpoint,
        "key_id": KEY,
        "secret": SECRET,
        "allowed": ["127.0.0.0/8"],
    } | more


async def failing(given, write_to=""):
    began = asyncio.get_running_loop().time()
    steps = await try_store(given, write_to=write_to)
    assert asyncio.get_running_loop().time() - began < 60
    return [(s.step, s.code) for s in steps if s.ok is False]


async def test_the_try_tells_a_host_that_says_nothing(raw):
    assert await failing(spec(f"http://127.0.0.1:{raw(lambda c: None)}")) == [
        ("answer", "store.silent")
    ]


async def test_the_try_tells_a_host_that_cuts_every_line(raw):
    assert await failing(spec(f"http://127.0.0.1:{raw(lambda c: c.close())}")) == [
        ("answer", "store.cut")
    ]


@pytest.mark.parametrize("left", [b"", b"Content-Length: 0\r\n", b"Content-Length: 0\r\nETa"])
async def test_an_answer_cut_within_its_headers_is_no_answer(raw, left):
    """libcurl takes the headers that came for all there are: a write would be remembered without
    its ETag.
    """

    def cut(connection):
        while b"\r\n\r\n" not in connection.recv(1 << 16):
            pass
        connection.sendall(b"HTTP/1.1 200 OK\r\n" + left)
        connection.shutdown(socket.SHUT_RDWR)

    transport = Transport(f"http://127.0.0.1:{raw(cut)}", allowed=Allowed(("127.0.0.0/8",)))
    for method in ("GET", "HEAD", "DELETE"):
        with pytest.raises(Busy, match="within the headers"):
            await transport.ask(method, "/x", {})
        with pytest.raises(Busy, match="within the headers"):
            async with transport.streamed(method, "/x", {}):
                pass
    await transport.close()


async def test_a_write_whose_answer_tells_no_etag_is_looked_at(abroad):
    abroad[0].old = frozenset({"puts-tell-no-etag"})
    store = opened(abroad[1])
    placed = await put(store, b"a", b"1")
    assert (
        placed.entry.etag and placed.entry.etag == (await store.stat(placed.entry.key)).entry.etag
    )
    await store.close()


async def test_the_try_tells_packets_that_are_dropped():
    full = socket.create_server(
        ("127.0.0.1", 0), backlog=0
    )  # nobody accepts: once its queue is full, packets are dropped
    at = full.getsockname()
    callers = [socket.socket() for _ in range(4)]
    for caller in callers:
        caller.setblocking(False)
        caller.connect_ex(at)
    assert await failing(spec(f"http://127.0.0.1:{at[1]}")) == [("connect", "store.unreachable")]
    for each in (*callers, full):
        each.close()


async def test_the_try_tells_a_certificate_that_is_not_accepted_and_takes_the_one_that_is_given(
    raw, tmp_path
):
    subject = ["-subj", "/CN=localhost", "-addext", "subjectAltName=DNS:localhost"]
    subprocess.run(
        [
            "openssl",
            "req",
            "-x509",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-keyout",
            tmp_path / "key",
            "-out",
            tmp_path / "cert",
            "-days",
            "2",
            *subject,
        ],
        check=True,
        capture_output=True,
    )
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(tmp_path / "cert", tmp_path / "key")
    endpoint = f"https://localhost:{raw(lambda c: c.close(), context)}"
    assert await failing(spec(endpoint)) == [("TLS", "store.certificate")]
    given = (tmp_path / "cert").read_text()
    assert await failing(spec(endpoint, certificate=given)) == [("answer", "store.cut")]


async def test_the_try_tells_a_clock_that_is_wrong(abroad):
    from datetime import UTC, datetime, timedelta

    abroad[0].now = lambda: datetime.now(UTC) + timedelta(hours=2)
    assert await failing(spec(abroad[1])) == [("clock", "store.clock")]


@pytest.mark.parametrize(
    ("allowed", "wanted"),
    [
        ("list", [("write", "store.refused")]),
        ("write", [("list", "store.refused")]),
        ("", [("list", "store.refused")]),
    ],
)
async def test_the_try_tells_a_key_that_may_only_list_or_only_write(abroad, allowed, wanted):
    from pinecart.standins.bucket_behaviour import Behaviour

    for kind in ("list", "list-buckets") if allowed != "list" else ("put",):
        abroad[0].behaviour[kind] = Behaviour(fail="AccessDenied")
    assert await failing(spec(abroad[1]), write_to="larkfell") == wanted


@pytest.mark.parametrize(("times", "wanted"), [(2, []), (-1, [("answer", "store.busy")])])
async def test_the_try_asks_a_store_again_that_is_busy_for_a_moment(abroad, times, wanted):
    from pinecart.standins.bucket_behaviour import Behaviour

    abroad[0].behaviour["list-buckets"] = Behaviour(fail="SlowDown", times=times)
    steps = await try_store(spec(abroad[1]))
    failed = [step for step in steps if step.ok is False]
    assert [(step.step, step.code) for step in failed] == wanted
    assert not any("It is tried again" in step.message for step in failed)


@pytest.mark.parametrize("loop", [asyncio.new_event_loop, uvloop.new_event_loop])
def test_a_line_that_is_closed_while_idle_is_let_go(raw, loop):
    """Its descriptor is free for whoever comes next, and nobody turns round and round over it."""

    def one_answer(connection):
        while b"\r\n\r\n" not in connection.recv(1 << 16):
            pass
        connection.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
        threading.Timer(0.03, connection.close).start()

    async def work():
        transport, others = (
            Transport(f"http://127.0.0.1:{raw(one_answer)}", allowed=Allowed(("127.0.0.0/8",))),
            [],
        )
        for _ in range(4):
            answers = await asyncio.gather(*(transport.ask("GET", "/x", {}) for _ in range(3)))
            assert [a.body for a in answers] == [b"ok"] * 3
            used = time.process_time()
            await asyncio.wait([asyncio.get_running_loop().create_future()], timeout=0.2)
            assert time.process_time() - used < 0.15, "the loop has nothing to do, and does it"
            ours, theirs = socket.socketpair()
            ours.setblocking(False)
            theirs.send(b"hello")
            assert (
                await asyncio.wait_for(asyncio.get_running_loop().sock_recv(ours, 9), 5) == b"hello"
            )
            others += [ours, theirs]
        await transport.close()
        for each in others:
            each.close()

    with asyncio.Runner(loop_factory=loop) as runner:
        runner.run(work())


@pytest.mark.parametrize(
    "address",
    [
        "127.0.0.1",
        "127.9.9.9",
        "::1",
        "0.0.0.0",
        "::",
        "169.254.169.254",
        "fe80::1%eth0",
        "224.0.0.1",
        "100.100.100.200",
        "168.63.129.16",
        "192.0.0.192",
        "fd00:ec2::254",
        "::ffff:127.0.0.1",
        "::ffff:169.254.169.254",
        "64:ff9b::7f00:1",
        "64:ff9b::a9fe:a9fe",
        "2002:7f00:1::",
        "2002:a9fe:a9fe::1",
        "::127.0.0.1",
        "0.1.2.3",
    ],
)
def test_addresses_of_this_machine_and_its_provider_are_refused(address):
    """The rule is asked: nothing is sent."""
    with pytest.raises(Refused) as caught:
        Allowed().check(address)
    assert caught.value.code == "store.address-refused"


@pytest.mark.parametrize(
    "address",
    ["192.0.2.7", "10.1.2.3", "2001:db8::1", "64:ff9b::c000:207", "100.100.100.201", "fd12::1"],
)
def test_other_addresses_may_be_asked(address):
    Allowed().check(address)
    Allowed(("127.0.0.0/8", "::1/128")).check("127.0.0.1")
    Allowed(("127.0.0.0/8",)).check("::ffff:127.0.0.1")
