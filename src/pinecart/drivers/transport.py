"""The only door to HTTP: a pool, time limits, verified TLS, and addresses that are refused after
resolving.

libcurl moves the bytes, driven by the event loop. Keys reach the server byte for byte: what is
asked for is an encoded path and query, sent as it stands. Nothing is ever repeated or followed by
itself: that is decided where it is known what it means.
"""

from __future__ import annotations

import asyncio
import io
import os
import re
import ssl
import time
from collections import deque
from collections.abc import AsyncIterator, Mapping
from contextlib import asynccontextmanager
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any, cast
from urllib.parse import urlsplit

import certifi
import pycurl

from pinecart.core.errors import Busy, Refused, Unreachable
from pinecart.drivers.addresses import Allowed
from pinecart.drivers.curl_lines import AnswerBody, AnswerStream, CurlLine, CurlLines, RequestFeed
from pinecart.drivers.http_message import HttpAnswer, Pieces, wait_told
from pinecart.json_object import JsonObject

BUFFER = 512 << 10
SMALL_BUFFER = (
    16 << 10
)  # for what is sent, where that is little: libcurl clears all of it for each request
MOST_ANSWER = 64 << 20  # bytes of an answer that is taken whole
LONGEST_REST_S = 300.0
REST_S = 1.0  # after an answer that asks to go slower, and doesn't say for how long
SILENT_S = 3.0  # without an answer, and then it is told
_BELOW = re.compile(r"[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)*\.")  # what stands before the endpoint's host


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
        self._allowed = allowed
        self._scheme = url.scheme
        self.host = url.netloc.rpartition("@")[2].lower()
        self._certificate = certificate
        self._proxy = proxy
        self._at_proxy = at_proxy
        self._connect_s = connect_s
        self._silence_s = silence_s
        self._lines: CurlLines | None = None
        self._date = ""  # as it was told last
        # of requests that are no stream, which wait for nobody while they are read; 0: MOST_LINES
        self.most_at_once = 0
        self._asking = 0
        self._waiting = deque[asyncio.Future[None]]()
        self._rests_until = self._heard_at = 0.0  # monotonic
        self.sent = 0  # requests

    @property
    def rests_s(self) -> float:
        return self._rests_until - time.monotonic()

    @property
    def silent_s(self) -> float:
        """For so long a request is waited for, with nothing heard of any meanwhile; 0: there is
        none.
        """
        if self._lines is not None and self._lines.busy:
            return time.monotonic() - self._heard_at
        return 0.0

    def rest(self, seconds: float) -> None:
        """The other side asked for a pause: nothing is asked of it before it is over."""
        self._rests_until = max(self._rests_until, time.monotonic() + min(seconds, LONGEST_REST_S))

    def slow_down(self, told: str, usual_s: float = REST_S) -> None:
        """After an answer that asks for that. told: its `Retry-After`; without one the usual."""
        wait_s = wait_told(told)
        if wait_s is not None:
            self.rest(wait_s)
        elif self.rests_s <= 0:
            self.rest(usual_s)

    def waits_for(self, name: str) -> str:
        """In words; empty: it answers. name: of the store."""
        rest = self.rests_s
        if rest > 1:
            return f"{name} asked for a pause: {rest:.0f} s are left."
        silent = self.silent_s
        if silent > SILENT_S:
            return f"{name} has not answered for {silent:.0f} s."
        return ""

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
        """The Date of the last answer that had one; None if there was none, or it is none."""
        try:
            told = parsedate_to_datetime(self._date)
        except ValueError:
            return None
        if told.tzinfo:
            return told
        return told.replace(tzinfo=UTC)

    def authority(self, bucket: str = "") -> str:
        """Host and port; with a bucket in front of the host where that is how buckets are
        addressed.
        """
        if bucket:
            return f"{bucket}.{self.host}"
        return self.host

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
            line.body = found = AnswerBody(most, into)
            await (self._fed(line, body) if isinstance(body, Pieces) else self._done(line))
        finally:
            self._asking -= 1
            self._wake()
        status, told = line.head()
        self._date = told.get("date") or self._date  # who answers in its place may tell none
        return HttpAnswer(status, told, found.whole())

    async def _fed(self, line: CurlLine, body: Pieces) -> None:
        """Send what comes piece by piece.

        What reading it raises ends the request, and is raised.
        """
        feed = RequestFeed(line.easy)
        done = asyncio.ensure_future(self._done(line))
        filling = asyncio.ensure_future(feed.fill(body.chunks()))
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
        self, method: str, target: str, headers: Mapping[str, str], body: bytes | None = None
    ) -> AsyncIterator[tuple[int, Mapping[str, str], AsyncIterator[bytes]]]:
        """One request, the answer's status and headers, and its body in chunks as they come."""
        await self._rested()
        line = self._line(method, target, headers, body)
        stream = AnswerStream(line)
        task = asyncio.ensure_future(self._done(line))
        task.add_done_callback(lambda _: stream.end())
        try:
            await stream.begun.wait()
            if task.done():
                await task  # it may have failed before there was an answer
            status, told = line.head()
            self._date = told.get("date") or self._date
            yield status, told, stream.chunks(task)
        finally:
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)

    def _line(
        self, method: str, target: str, headers: Mapping[str, str], body: bytes | Pieces | None
    ) -> CurlLine:
        if self._lines is None:
            self._lines = CurlLines(self._configured)
        self.sent += 1
        line = self._lines.free()
        easy = line.easy
        easy.setopt(pycurl.URL, self._address(headers.get("host", self.host), target))
        large = body is not None and len(body) > SMALL_BUFFER
        written = _written(headers, no_expect=large)
        if written:
            easy.setopt(pycurl.HTTPHEADER, written)
        else:  # setting none would leave those of the request before
            easy.unsetopt(pycurl.HTTPHEADER)
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

    def _configured(self, easy: Any, line: CurlLine) -> None:
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

    async def _done(self, line: CurlLine) -> None:
        """Wait for the end of a transfer; libcurl's errors become ours."""
        assert self._lines is not None
        lines = self._lines
        fine = False
        if not lines.busy:
            self._heard_at = time.monotonic()
        try:
            await lines.begin(line)
            fine = True
            self._heard_at = time.monotonic()
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


def transport_from(endpoint: str, spec: Mapping[str, Any]) -> Transport:
    """With what a store's fields say of the way to it."""
    limits: JsonObject = {k: float(spec[k]) for k in ("connect_s", "silence_s") if spec.get(k)}
    return Transport(
        endpoint,
        allowed=Allowed(tuple(spec.get("allowed", ()))),
        certificate=spec.get("certificate") or "",
        proxy=spec.get("proxy") or "",
        at_proxy=(spec.get("proxy_user") or "", spec.get("proxy_password") or ""),
        **limits,
    )


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
    if not found:
        return []
    text = "\n".join(found)
    if text.count("\n") >= len(found) or "\r" in text or "\0" in text:
        message = "A name or a piece of metadata has a line break, which HTTP can't carry."
        raise Refused(message, code="unsafe-name")
    encoded = text.encode("utf-8", "surrogateescape")
    return encoded.split(b"\n")
