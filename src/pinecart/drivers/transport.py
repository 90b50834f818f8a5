"""The only door to HTTP: a pool, time limits, verified TLS, and addresses that are refused after
resolving.

libcurl moves the bytes, driven by the event loop. Keys reach the server byte for byte: what is
asked for is an encoded path and query, sent as it stands. Nothing is ever repeated or followed by
itself: that is decided where it is known what it means.
"""

from __future__ import annotations

import asyncio
import contextlib
import io
import ipaddress
import os
import re
import select
import socket
import ssl
import time
from collections import deque
from collections.abc import AsyncIterator, Callable, Iterator, Mapping
from contextlib import asynccontextmanager
from datetime import datetime
from email.utils import parsedate_to_datetime
from typing import Any, NamedTuple, cast
from urllib.parse import urlsplit

import certifi
import pycurl

from pinecart.core.errors import Busy, Refused, StoreError, Unreachable

HELD_AHEAD = 4 << 20  # bytes of a streamed answer that wait for their reader; then the line pauses
BUFFER = 512 << 10
SMALL_BUFFER = (
    16 << 10
)  # for what is sent, where that is little: libcurl clears all of it for each request
MOST_ANSWER = 64 << 20  # bytes of an answer that is taken whole
MOST_LINES = 128
LONGEST_REST_S = 300.0
_BELOW = re.compile(r"[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)*\.")  # what stands before the endpoint's host


class Headers(Mapping[str, str]):
    """An answer's headers, whatever their case. Few of them are ever asked for, so that each is
    looked for then.

    raw: the status line and the lines after it, as they came.
    """

    def __init__(self, raw: bytes) -> None:
        self._raw = raw
        self._low = raw.lower()

    def _value(self, name: str) -> str | None:
        mark = b"\n" + name.lower().encode() + b":"
        at = self._low.rfind(mark) + len(mark)
        if at < len(mark):
            return None
        return self._raw[at : self._raw.find(b"\n", at)].decode("utf-8", "surrogateescape").strip()

    def __getitem__(self, name: str) -> str:
        if (found := self._value(name)) is None:
            raise KeyError(name)
        return found

    def get(self, name: str, default: Any = None) -> Any:
        found = self._value(name)
        return default if found is None else found

    def __iter__(self) -> Iterator[str]:
        names = [line.partition(b":") for line in self._low.split(b"\n")[1:]]
        return iter(
            dict.fromkeys(
                name.decode("utf-8", "surrogateescape") for name, colon, _ in names if colon
            )
        )

    def __len__(self) -> int:
        return len(list(iter(self)))


class HttpAnswer(NamedTuple):
    status: int
    headers: Mapping[str, str]
    body: bytes


class Pieces:
    """A body that is never held whole.

    chunks: reads it from its start, for each request anew; `size` bytes in all.
    """

    def __init__(self, size: int, chunks: Callable[[], AsyncIterator[bytes]]) -> None:
        self._size, self.chunks = size, chunks

    def __len__(self) -> int:
        return self._size


# Where providers of machines tell them about themselves, keys and all, outside the link-local
# networks: the metadata and
# internal services of several clouds, from their own manuals, and the IETF's protocol assignments
# (RFC 6890).
INTERNAL = [
    ipaddress.ip_network(n)
    for n in (
        "100.100.100.200/32",
        "168.63.129.16/32",
        "192.0.0.0/24",
        "fd00:ec2::/32",
        "fd20:ce::/32",
        "0.0.0.0/8",
    )
]
_NAT64 = ipaddress.ip_network("64:ff9b::/96")  # RFC 6052


def _within(ip: ipaddress.IPv4Address | ipaddress.IPv6Address) -> ipaddress.IPv4Address | None:
    """The IPv4 address that an IPv6 one leads to: mapped (RFC 4291), translated (RFC 6052), 6to4
    (RFC 3056), compatible.
    """
    if isinstance(ip, ipaddress.IPv4Address):
        return None
    if ip in _NAT64 or (int(ip) < 1 << 32 and int(ip) > 1):
        return ipaddress.IPv4Address(int(ip) & 0xFFFFFFFF)
    return ip.ipv4_mapped or ip.sixtofour


class Allowed(NamedTuple):
    """Which addresses of this machine may be asked, as networks; loopback is refused unless it is
    in one of them.
    """

    networks: tuple[str, ...] = ()

    def check(self, address: str) -> None:
        """Raises Refused for what is of this machine or its provider, and addresses that are no
        host's.
        """
        ip = ipaddress.ip_address(address.split("%", maxsplit=1)[0])
        ip = _within(ip) or ip
        if any(ip in ipaddress.ip_network(n) for n in self.networks):
            return
        never = ip.is_loopback or ip.is_link_local or ip.is_unspecified or ip.is_multicast
        if never or any(ip in network for network in INTERNAL):
            message = (
                f"The address {address} is not allowed: loopback, link-local and providers' "
                "internal addresses are refused. "
            )
            message += f"If it is meant, start the service with --allow-address {address}."
            raise Refused(message, code="store.address-refused")


class Transport:
    """Requests to one endpoint (scheme, host, port).

    Made without touching the network; `close` it.
    """

    def __init__(
        self,
        endpoint: str,
        *,
        allowed: Allowed,
        connect_s: float = 10,
        silence_s: float = 60,
        certificate: str = "",
        proxy: str = "",
        at_proxy: tuple[str, str] = ("", ""),
    ) -> None:
        url = urlsplit(endpoint)
        if (
            url.scheme not in ("http", "https")
            or not url.hostname
            or url.path not in ("", "/")
            or url.query
        ):
            raise Refused(
                f"{endpoint!r} is no endpoint: write it as https://HOST or https://HOST:PORT.",
                code="store.address",
            )
        self._allowed, self._scheme, self.host = (
            allowed,
            url.scheme,
            url.netloc.rpartition("@")[2].lower(),
        )
        self._certificate, self._proxy, self._at_proxy = certificate, proxy, at_proxy
        self._connect_s, self._silence_s = connect_s, silence_s
        self._lines: _Lines | None = None
        self._last: Mapping[str, str] = {}  # headers
        # of requests that are no stream, which wait for nobody while they are read; 0: MOST_LINES
        self.most_at_once = 0
        self._asking, self._waiting = 0, deque[asyncio.Future[None]]()
        self._rests_until = self._heard_at = 0.0  # monotonic

    @property
    def rests_s(self) -> float:
        return self._rests_until - time.monotonic()

    @property
    def silent_s(self) -> float:
        """For so long a request is waited for, with nothing heard of any meanwhile; 0: there is
        none.
        """
        return (
            time.monotonic() - self._heard_at
            if self._lines is not None and self._lines.busy
            else 0.0
        )

    def rest(self, seconds: float) -> None:
        """The other side asked for a pause: nothing is asked of it before it is over."""
        self._rests_until = max(self._rests_until, time.monotonic() + min(seconds, LONGEST_REST_S))

    async def _rested(self) -> None:
        while (left := self.rests_s) > 0:
            await asyncio.sleep(left)

    @property
    def origin(self) -> str:
        return f"{self._scheme}://{self.host}"

    @property
    def is_tls(self) -> bool:
        return self._scheme == "https"

    @property
    def last_date(self) -> datetime | None:
        """The Date of the last answer; None if there was none, or it is none."""
        try:
            return parsedate_to_datetime(self._last.get("date", ""))
        except ValueError:
            return None

    def authority(self, bucket: str = "") -> str:
        """Host and port; with a bucket in front of the host where that is how buckets are
        addressed.
        """
        return f"{bucket}.{self.host}" if bucket else self.host

    async def ask(
        self,
        method: str,
        target: str,
        headers: Mapping[str, str],
        body: bytes | Pieces | None = None,
        most: int = MOST_ANSWER,
        into: bytearray | None = None,
    ) -> HttpAnswer:
        """One request, the whole answer. target: encoded path and query. Raises Unreachable, Busy
        (also for an answer of more than `most` bytes), Refused.

        into: where the answer's body is put, if it is large enough for `most` bytes; the body is
        then a view of it.
        """
        if self._rests_until:
            await self._rested()
        if self.most_at_once:
            await self._turn()
        self._asking += 1
        try:
            line = self._line(method, target, headers, body)
            line.body = found = _Body(most, into)
            await (self._fed(line, body) if isinstance(body, Pieces) else self._done(line))
        finally:
            self._asking -= 1
            self._wake()
        status, self._last = line.head()
        return HttpAnswer(status, self._last, found.whole())

    async def _fed(self, line: _Line, body: Pieces) -> None:
        """Send what comes piece by piece.

        What reading it raises ends the request, and is raised.
        """
        feed = _Feed(line.easy)
        done, filling = (
            asyncio.ensure_future(self._done(line)),
            asyncio.ensure_future(feed.fill(body.chunks())),
        )
        try:
            await asyncio.wait({done, filling}, return_when=asyncio.FIRST_COMPLETED)
            if not done.done():
                filling.result()
            await done
        finally:
            done.cancel()
            filling.cancel()
            await asyncio.gather(done, filling, return_exceptions=True)

    async def _turn(self) -> None:
        """First come, first served."""
        while self._asking >= self.most_at_once > 0:
            turn = asyncio.get_running_loop().create_future()
            self._waiting.append(turn)
            try:
                await turn
            except asyncio.CancelledError:
                self._wake()  # it may have been this one's turn
                raise

    def _wake(self) -> None:
        while self._waiting:
            turn = self._waiting.popleft()
            if not turn.done():
                turn.set_result(None)
                return

    @asynccontextmanager
    async def streamed(
        self, method: str, target: str, headers: Mapping[str, str]
    ) -> AsyncIterator[tuple[int, Mapping[str, str], AsyncIterator[bytes]]]:
        """One request without a body, the answer's status and headers, and its body in chunks as
        they come.
        """
        await self._rested()
        line = self._line(method, target, headers, None)
        stream = _Stream(line)
        task = asyncio.ensure_future(self._done(line))
        task.add_done_callback(lambda _: stream.end())
        try:
            await stream.begun.wait()
            if task.done():
                await task  # it may have failed before there was an answer
            status, told = line.head()
            self._last = told
            yield status, told, stream.chunks(task)
        finally:
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)

    def _line(
        self, method: str, target: str, headers: Mapping[str, str], body: bytes | Pieces | None
    ) -> _Line:
        if self._lines is None:
            self._lines = _Lines(self._configured)
        line = self._lines.free()
        easy = line.easy
        easy.setopt(pycurl.URL, self._address(headers.get("host", self.host), target))
        large = body is not None and len(body) > SMALL_BUFFER
        easy.setopt(pycurl.HTTPHEADER, _written(headers, no_expect=large))
        if line.kind != (kind := (method, bool(body), large)):
            # libcurl repeats on a line that was cut while idle: never a POST
            easy.setopt(pycurl.FRESH_CONNECT, method == "POST")
            easy.setopt(
                pycurl.NOBODY if method == "HEAD" else pycurl.UPLOAD if body else pycurl.HTTPGET, 1
            )
            easy.setopt(pycurl.CUSTOMREQUEST, method)
            easy.setopt(pycurl.UPLOAD_BUFFERSIZE, BUFFER if large else SMALL_BUFFER)
            line.kind = kind
        if body and line.sends != len(body):
            easy.setopt(pycurl.INFILESIZE_LARGE, len(body))
            line.sends = len(body)
        if isinstance(body, bytes) and body:
            easy.setopt(
                pycurl.READFUNCTION, io.BytesIO(body).read
            )  # can't be rewound: nothing is sent twice unasked
        return line

    def _address(self, host: str, target: str) -> str:
        """A request goes to the endpoint's host or to one below it, whatever stands in names.

        Raises Refused.
        """
        below = host.removesuffix(self.host)
        elsewhere = host == below or (below and not _BELOW.fullmatch(below))
        if (
            elsewhere
            or target[:1] != "/"
            or not (target.isascii() and target.isprintable())
            or " " in target
            or "#" in target
        ):
            message = (
                f"{self.origin}: a request would have left this address (for {host[:200]!r}). "
                "Nothing was sent. Look at the bucket's name."
            )
            raise Refused(message, code="store.address-left")
        return f"{self._scheme}://{host}{target}"

    def _configured(self, easy: Any, line: _Line) -> None:
        """What stays the same over all requests."""
        for option, value in (
            (pycurl.NOSIGNAL, 1),
            (pycurl.PATH_AS_IS, 1),
            (pycurl.HTTP_VERSION, pycurl.CURL_HTTP_VERSION_1_1),
            (pycurl.USERAGENT, "pinecart"),
            (pycurl.CONNECTTIMEOUT_MS, int(self._connect_s * 1000)),
            (pycurl.LOW_SPEED_LIMIT, 1),
            (pycurl.LOW_SPEED_TIME, max(int(self._silence_s), 1)),
            (pycurl.BUFFERSIZE, BUFFER),
            (pycurl.TCP_NODELAY, 1),
            (pycurl.NETRC, 0),
            (pycurl.PROXY, self._proxy),
            (pycurl.NOPROXY, ""),
            (pycurl.OPENSOCKETFUNCTION, line.open_socket),
            (pycurl.HEADERFUNCTION, line.lines.append),
            (pycurl.WRITEFUNCTION, line.take),
            (pycurl.DNS_CACHE_TIMEOUT, 60),
            (pycurl.PROTOCOLS, pycurl.PROTO_HTTP | pycurl.PROTO_HTTPS),
            (pycurl.HTTP_CONTENT_DECODING, 0),
        ):
            easy.setopt(option, value)
        if self._at_proxy[0]:
            easy.setopt(pycurl.PROXYUSERNAME, self._at_proxy[0])
            easy.setopt(pycurl.PROXYPASSWORD, self._at_proxy[1])
        if self.is_tls and self._certificate:
            easy.setopt(pycurl.CAINFO_BLOB, self._certificate.encode())
        elif self.is_tls:
            known = ssl.get_default_verify_paths().openssl_cafile
            easy.setopt(pycurl.CAINFO, known if os.path.exists(known) else certifi.where())
        line.allowed = self._allowed

    async def _done(self, line: _Line) -> None:
        """Wait for the end of a transfer; libcurl's errors become ours."""
        assert self._lines is not None
        lines, fine = self._lines, False
        if not lines.busy:
            self._heard_at = time.monotonic()
        try:
            await lines.begin(line)
            fine, self._heard_at = True, time.monotonic()
        except pycurl.error as exc:
            code, said = cast("tuple[int, str]", exc.args)
            if line.refused is not None:
                raise line.refused from exc
            if code in _NOT_REACHED or (
                code == pycurl.E_OPERATION_TIMEDOUT and "Connection" in said
            ):
                raise Unreachable(
                    f"{self.host} can't be reached ({said}). Check the address, and that it runs."
                ) from exc
            if code in (pycurl.E_PEER_FAILED_VERIFICATION, pycurl.E_SSL_CACERT):
                raise Unreachable(
                    (
                        f"{self.host}: its certificate is not trusted ({said}). Check the "
                        "address, or give the certificate file."
                    ),
                    code="store.certificate",
                ) from exc
            if code == pycurl.E_OPERATION_TIMEDOUT:
                raise Busy(
                    f"{self.host} did not answer in time. It is tried again.", code="store.silent"
                ) from exc
            raise Busy(
                f"{self.host}: the line was cut ({said}). It is tried again.", code="store.cut"
            ) from exc
        finally:
            lines.end(line, fine=fine)

    async def close(self) -> None:
        if self._lines is not None:
            self._lines.close()
            self._lines = None


_NOT_REACHED = (
    pycurl.E_COULDNT_RESOLVE_HOST,
    pycurl.E_COULDNT_RESOLVE_PROXY,
    pycurl.E_COULDNT_CONNECT,
)


def _written(headers: Mapping[str, str], *, no_expect: bool) -> list[bytes]:
    """Header lines as they are sent. headers: names in lower case. Raises Refused for a value that
    would be another header.

    no_expect: libcurl shall not wait for leave to send a large body.
    """
    found = [f"{k}: {v}" if v else f"{k};" for k, v in headers.items()]
    if no_expect:
        found.append("expect:")
    text = "\n".join(found)
    if text.count("\n") >= max(len(found), 1) or "\r" in text or "\0" in text:
        raise Refused(
            "A name or a piece of metadata has a line break, which HTTP can't carry.",
            code="unsafe-name",
        )
    return text.encode("utf-8", "surrogateescape").split(b"\n") if found else []


class _Body:
    """What comes of an answer that is taken whole: at most so many bytes, put where they are
    wanted.
    """

    def __init__(self, most: int, into: bytearray | None) -> None:
        self._most, self._held, self._found = most, 0, list[bytes]()
        self._room = memoryview(into) if into is not None and len(into) >= most else None

    def take(self, chunk: bytes) -> int | None:
        if self._held + len(chunk) > self._most:
            return 0  # libcurl gives the transfer up
        if self._room is None:
            self._found.append(chunk)
        else:
            self._room[self._held : self._held + len(chunk)] = chunk
        self._held += len(chunk)
        return None

    def whole(self) -> bytes:
        return (
            b"".join(self._found) if self._room is None else cast("bytes", self._room[: self._held])
        )


_NOTHING = _Body(0, None)  # what an idle line may still bring


class _Line:
    """One libcurl handle and what has come over it."""

    def __init__(self) -> None:
        self.easy = pycurl.Curl()
        self.lines: list[bytes] = []
        self.allowed = Allowed()
        self.refused: StoreError | None = None
        self.done: asyncio.Future[None] | None = None
        self.kind: tuple[str, bool, bool] = (
            "",
            False,
            False,
        )  # method, has a body, a large one: as the handle was last set
        self.sends = -1  # bytes, as the handle was last told
        self.body: _Body | _Stream = _NOTHING

    def take(self, chunk: bytes) -> int | None:
        return self.body.take(chunk)

    def open_socket(self, purpose: int, address: Any) -> Any:
        """Called by libcurl after resolving, for each address it is about to try."""
        try:
            self.allowed.check(address.addr[0])
        except StoreError as exc:
            self.refused = exc
            return pycurl.SOCKET_BAD
        self.refused = None  # another address of this host is tried instead
        return socket.socket(address.family, address.socktype, address.protocol)

    def head(self) -> tuple[int, Headers]:
        """Status and headers of the last answer that came (those before it only announced it).
        Raises Busy for headers that were cut: libcurl takes those for all there are.
        """
        text = b"".join(self.lines)
        head = text[text.rfind(b"\nHTTP/") + 1 :]
        if not head.startswith(b"HTTP/") or not (b"\r\n\r\n" in head or b"\n\n" in head):
            raise Busy(
                "The line was cut within the headers of the answer. It is tried again.",
                code="store.cut",
            )
        return int(head.split(b" ", 2)[1]), Headers(head)


class _Stream:
    """The body of an answer on its way to a slower reader."""

    def __init__(self, line: _Line) -> None:
        self._line, self._chunks, self._held = line, deque[bytes](), 0
        self._paused = False
        self.begun, self._more = asyncio.Event(), asyncio.Event()
        line.body = self
        line.easy.setopt(pycurl.HEADERFUNCTION, self._heard)

    def _heard(self, raw: bytes) -> None:
        self._line.lines.append(raw)
        if raw == b"\r\n":
            status = next(
                (x for x in reversed(self._line.lines) if x.startswith(b"HTTP/")), b""
            ).split(b" ")[1]
            if not status.startswith(b"1"):
                self.begun.set()

    def take(self, chunk: bytes) -> int | None:
        if self._held > HELD_AHEAD:
            self._paused = True
            return int(pycurl.WRITEFUNC_PAUSE)
        self._chunks.append(chunk)
        self._held += len(chunk)
        self._more.set()
        return None

    def end(self) -> None:
        self.begun.set()
        self._more.set()

    async def chunks(self, task: asyncio.Future[None]) -> AsyncIterator[bytes]:
        while True:
            while self._chunks:
                chunk = self._chunks.popleft()
                self._held -= len(chunk)
                if self._paused and self._held <= HELD_AHEAD // 2 and not task.done():
                    self._paused = False
                    self._line.easy.pause(pycurl.PAUSE_CONT)
                yield chunk
            if task.done():
                await task
                return
            self._more.clear()
            await self._more.wait()


class _Feed:
    """A body on its way from a slower reader. libcurl waits while there is nothing for it."""

    def __init__(self, easy: Any) -> None:
        self._easy, self._chunk, self._at = easy, memoryview(b""), 0
        self._wanted = asyncio.Event()
        easy.setopt(pycurl.READFUNCTION, self._read)

    def _read(self, most: int) -> bytes | int:
        if self._at == len(self._chunk):
            self._wanted.set()
            return int(pycurl.READFUNC_PAUSE)
        found = bytes(self._chunk[self._at : self._at + most])
        self._at += len(found)
        return found

    async def fill(self, chunks: AsyncIterator[bytes]) -> None:
        """A piece is read when the one before is gone: several such bodies are on their way at
        once.
        """
        while True:
            await self._wanted.wait()
            self._wanted.clear()
            self._chunk, self._at = memoryview(b""), 0
            chunk = await anext(chunks, b"")
            if not chunk:
                return
            self._chunk = memoryview(chunk)
            self._easy.pause(pycurl.PAUSE_CONT)


class _Lines:
    """Transfers of one Transport, many at once, on the event loop that first asked.

    The lines are watched by an epoll of our own, and the event loop watches that: a line that is
    idle between two requests stays known to it, and the kernel itself forgets one that libcurl
    closes, which libcurl doesn't tell.
    """

    def __init__(self, configure: Any) -> None:
        self._loop, self._configure = asyncio.get_running_loop(), configure
        self._multi = pycurl.CurlMulti()
        self._multi.setopt(pycurl.M_SOCKETFUNCTION, self._watch)
        self._multi.setopt(pycurl.M_TIMERFUNCTION, self._set_timer)
        self._multi.setopt(pycurl.M_MAX_TOTAL_CONNECTIONS, MOST_LINES)
        self._multi.setopt(pycurl.M_MAXCONNECTS, MOST_LINES)
        self._timer: asyncio.Handle | None = None
        self._due = 0.0
        self._free: list[_Line] = []
        self._busy: dict[Any, _Line] = {}
        self._epoll = select.epoll()
        self._watched: dict[
            int, int
        ] = {}  # descriptor → what libcurl waits for; 0: nothing, and still in the epoll
        self._loop.add_reader(self._epoll.fileno(), self._ready)

    @property
    def busy(self) -> int:
        return len(self._busy)

    def free(self) -> _Line:
        if self._free:
            return self._free.pop()
        line = _Line()
        self._configure(line.easy, line)
        return line

    def begin(self, line: _Line) -> asyncio.Future[None]:
        """Done with the transfer; else it raises pycurl.error.

        Call `end` afterwards, whatever came of it.
        """
        line.lines.clear()
        line.refused, line.done = None, self._loop.create_future()
        self._busy[line.easy] = line
        self._multi.add_handle(line.easy)
        return line.done

    def end(self, line: _Line, *, fine: bool) -> None:
        if self._busy.pop(line.easy, None) is not None:  # given up before its end
            self._multi.remove_handle(line.easy)
        if fine and len(self._free) < MOST_LINES:
            if isinstance(line.body, _Stream):
                line.easy.setopt(pycurl.HEADERFUNCTION, line.lines.append)
            line.body = _NOTHING
            self._free.append(line)
        else:
            line.easy.close()

    def _watch(self, what: int, fd: int, multi: Any, data: Any) -> None:
        if what == pycurl.POLL_REMOVE:
            self._watched[fd] = 0
            return
        events = _EVENTS[what]
        if fd in self._watched:
            try:
                self._epoll.modify(fd, events)
            except FileNotFoundError:  # the one that had this number was closed
                self._epoll.register(fd, events)
        else:
            self._epoll.register(fd, events)
        self._watched[fd] = what

    def _ready(self) -> None:
        for fd, got in self._epoll.poll(0, MOST_LINES):
            if self._watched.get(fd):
                broken = got & (select.EPOLLERR | select.EPOLLHUP)
                mask = pycurl.CSELECT_IN if got & select.EPOLLIN or broken else 0
                mask |= pycurl.CSELECT_OUT if got & select.EPOLLOUT or broken else 0
                self._multi.socket_action(fd, mask)
            # an idle line: the other side has closed it, which libcurl finds out when it wants to
            # use it
            else:
                self._watched.pop(fd, None)
                with contextlib.suppress(OSError):  # libcurl has closed it a moment ago
                    self._epoll.unregister(fd)
        self._see_what_is_over()

    def _set_timer(self, milliseconds: int) -> None:
        """libcurl wants to be called again by then; negative: not at all. Earlier does no harm: it
        then says by when.
        """
        due = self._loop.time() + milliseconds / 1000
        if milliseconds < 0 or (self._timer is not None and self._due <= due):
            return
        if self._timer is not None:
            self._timer.cancel()
        self._due = due
        self._timer = (
            self._loop.call_later(milliseconds / 1000, self._is_due)
            if milliseconds
            else self._loop.call_soon(self._is_due)
        )

    def _is_due(self) -> None:
        self._timer = None
        self._multi.socket_action(pycurl.SOCKET_TIMEOUT, 0)
        self._see_what_is_over()
        self._set_timer(self._multi.timeout())

    def _see_what_is_over(self) -> None:
        while True:
            left, good, bad = self._multi.info_read()
            for easy in good:
                self._over(easy, None)
            for easy, code, message in bad:
                self._over(easy, pycurl.error(code, message))
            if not left:
                return

    def _over(self, easy: Any, error: Exception | None) -> None:
        line = self._busy.pop(easy)
        self._multi.remove_handle(easy)
        assert line.done is not None
        if line.done.done():
            return
        if error is None:
            line.done.set_result(None)
        else:
            line.done.set_exception(error)

    def close(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
        for line in list(self._busy.values()):
            self._multi.remove_handle(line.easy)
            if line.done is not None and not line.done.done():
                line.done.cancel()
        self._busy.clear()
        for line in self._free:
            line.easy.close()
        self._multi.close()
        self._loop.remove_reader(self._epoll.fileno())
        self._epoll.close()
        self._watched.clear()


_EVENTS = {
    pycurl.POLL_IN: select.EPOLLIN,
    pycurl.POLL_OUT: select.EPOLLOUT,
    pycurl.POLL_INOUT: select.EPOLLIN | select.EPOLLOUT,
}
