"""A bad line to a stand-in: a plain TCP relay that cuts, stalls, lies and limits, per kind of
request, from one seed.

It reads each request as raw bytes, passes it on, and decides by its random generator what becomes
of it.
"""

from __future__ import annotations

import asyncio
import contextlib
import random
import re
from collections import Counter
from dataclasses import dataclass, field

FAULTS = (
    "refuse",
    "cut-before",
    "cut-after",
    "cut-within",
    "stall",
    "slow-down",
    "error-inside",
    "flip",
    "flip-up",
)
SLOW_DOWN = b"<Error><Code>SlowDown</Code></Error>"


@dataclass
class BadLine:
    """host, port: of the stand-in behind.   rate: share of requests that go wrong.   kinds: which
    faults may happen.

    methods: requests that may go wrong.   quiet_after: so many faults, then the line is good.
    dead: nothing passes any more. everywhere: bits are flipped in what goes before a body too, and
    in listings.
    """

    host: str
    port: int
    seed: int
    rate: float = 0.1
    kinds: tuple[str, ...] = FAULTS
    methods: tuple[str, ...] = ("GET", "HEAD", "PUT", "POST", "DELETE")
    quiet_after: int = 1_000_000
    stall_s: float = 2.0
    dead: bool = False
    everywhere: bool = False
    counts: Counter[str] = field(default_factory=Counter)

    def __post_init__(self) -> None:
        self._random = random.Random(self.seed)  # noqa: S311 - to be repeatable is the point

    async def serve(self) -> tuple[asyncio.Server, int]:
        """Listen on a free port of this machine; gives the server and the port."""
        server = await asyncio.start_server(self._line, "127.0.0.1", 0)
        return server, server.sockets[0].getsockname()[1]

    async def _line(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Requests of one connection in turn, until one of them ends it, on purpose or not."""
        with contextlib.suppress(ConnectionError, asyncio.IncompleteReadError, OSError):
            while not self.dead and (request := await _message(reader)):
                if not await self._pass_on(request, writer):
                    break
        writer.close()

    def _fault(self, method: str, path: str) -> str:
        """What goes wrong with this request, if anything. It is drawn from the seed, so that the
        same requests meet the same faults.
        """
        if (
            method not in self.methods
            or self.counts.total() >= self.quiet_after
            or self._random.random() >= self.rate
        ):
            return ""
        kind = self._random.choice(self.kinds)
        answers_late = (method == "POST" and "uploadId" in path) or method == "PUT"
        if kind == "error-inside" and not answers_late:
            kind = "slow-down"
        if kind == "flip" and method != "GET" and not self.everywhere:
            kind = "cut-within"
        if not kind.startswith("flip"):
            self.counts[kind] += 1
        return kind

    async def _pass_on(self, request: bytes, writer: asyncio.StreamWriter) -> bool:
        """False: this line is over."""
        method, path = request.split(b" ", 2)[:2]
        fault = self._fault(method.decode(), path.decode())
        if fault in ("refuse", "cut-before"):
            return False
        if fault == "stall":
            await asyncio.sleep(self.stall_s)
            return False
        if fault == "slow-down":
            await _answer(writer, 503, SLOW_DOWN, b"Retry-After: 0\r\n")
            return True
        if fault == "flip-up":
            request = self._flipped(request, fault)
        answer = await self._ask(request, head=method == b"HEAD")
        if self.dead or not answer or fault == "cut-after":
            return False
        if fault == "error-inside":
            await _answer(
                writer, 200, b"<?xml version='1.0'?><Error><Code>InternalError</Code></Error>"
            )
            return True
        if fault == "cut-within":
            writer.write(answer[: self._random.randrange(len(answer))])
            await writer.drain()
            return False
        if fault == "flip":
            answer = self._flipped(answer, fault)
        writer.write(answer)
        await writer.drain()
        return True

    def _flipped(self, message: bytes, fault: str) -> bytes:
        """One bit of the body is another one: of an object's, never of a listing, whose form has no
        checksum.
        """
        start = message.find(b"\r\n\r\n") + 4
        if self.counts.total() >= self.quiet_after:
            return message
        if self.everywhere:
            start = 0
        elif start == len(message) or b"application/xml" in message[:start]:
            return message
        self.counts[fault] += 1
        at = self._random.randrange(start, len(message))
        return (
            message[:at]
            + bytes([message[at] ^ (1 << self._random.randrange(8))])
            + message[at + 1 :]
        )

    async def _ask(self, request: bytes, *, head: bool) -> bytes:
        reader, writer = await asyncio.open_connection(self.host, self.port)
        try:
            writer.write(request)
            await writer.drain()
            return await _message(reader, head=head)
        finally:
            writer.close()


async def _answer(
    writer: asyncio.StreamWriter, status: int, body: bytes, more: bytes = b""
) -> None:
    """One answer that doesn't come from the server behind."""
    head = (
        f"HTTP/1.1 {status} -\r\nContent-Type: application/xml\r\nContent-Length: {len(body)}\r\n"
    ).encode()
    writer.write(head + more + b"\r\n" + body)
    await writer.drain()


async def _message(reader: asyncio.StreamReader, *, head: bool = False) -> bytes:
    """One request or answer, whole. Empty: the line is closed."""
    try:
        top = await reader.readuntil(b"\r\n\r\n")
    except asyncio.IncompleteReadError:
        return b""
    if head or top.startswith((b"HTTP/1.1 204", b"HTTP/1.1 304")):
        return top
    length = re.search(rb"\r\ncontent-length: *(\d+)", top, re.IGNORECASE)
    if length:
        return top + await reader.readexactly(int(length[1]))
    if re.search(rb"\r\ntransfer-encoding: *chunked", top, re.IGNORECASE):
        while True:
            size = await reader.readuntil(b"\r\n")
            top += size + await reader.readexactly(int(size, 16) + 2)
            if int(size, 16) == 0:
                return top
    return top
