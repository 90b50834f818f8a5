"""Lines of libcurl, watched by the event loop: one request at a time on each, kept for the next."""

from __future__ import annotations

import asyncio
import contextlib
import select
import socket
from collections import deque
from collections.abc import AsyncIterator
from typing import Any, cast

import pycurl

from pinecart.core.errors import Busy, StoreError
from pinecart.core.ports import Room
from pinecart.drivers.addresses import Allowed
from pinecart.drivers.http_message import Headers

HELD_AHEAD = 4 << 20  # bytes of a streamed answer that wait for their reader; then the line pauses
MOST_LINES = 128


class AnswerBody:
    """What comes of an answer that is taken whole: at most so many bytes, put where they are
    wanted.
    """

    def __init__(self, most: int, into: bytearray | None) -> None:
        self._most = most
        self._held = 0
        self._found = list[bytes]()
        self._room = memoryview(into) if into is not None and len(into) >= most else None
        self._came = into.came if isinstance(into, Room) else None

    def take(self, chunk: bytes) -> int | None:
        """Called by libcurl with each piece. None: it is taken; 0: no more than `most` was asked
        for, and the line is given up.
        """
        if self._held + len(chunk) > self._most:
            return 0  # libcurl gives the transfer up
        if self._room is None:
            self._found.append(chunk)
        else:
            self._room[self._held : self._held + len(chunk)] = chunk
        self._held += len(chunk)
        if self._came is not None:
            self._came(len(chunk))
        return None

    def whole(self) -> bytes:
        if self._room is None:
            return b"".join(self._found)
        return cast("bytes", self._room[: self._held])


NOTHING = AnswerBody(0, None)  # what an idle line may still bring


class CurlLine:
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
        self.body: AnswerBody | AnswerStream = NOTHING

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


class AnswerStream:
    """The body of an answer on its way to a slower reader."""

    def __init__(self, line: CurlLine) -> None:
        """It takes the place of the line's body, and hears of each header."""
        self._line = line
        self._chunks: deque[bytes] = deque()
        self._held = 0
        self._paused = False
        self.begun = asyncio.Event()
        self._more = asyncio.Event()
        line.body = self
        line.easy.setopt(pycurl.HEADERFUNCTION, self._heard)

    def _heard(self, raw: bytes) -> None:
        """The answer has begun once its own headers have ended: those of a `100 Continue` before it
        are another answer's.
        """
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
        """As they come; the line rests while too much lies here unread."""
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


class RequestFeed:
    """A body on its way from a slower reader. libcurl waits while there is nothing for it."""

    def __init__(self, easy: Any) -> None:
        self._easy, self._chunk, self._at = easy, memoryview(b""), 0
        self._wanted = asyncio.Event()
        easy.setopt(pycurl.READFUNCTION, self._read)

    def _read(self, most: int) -> bytes | int:
        """Called by libcurl for at most so many bytes. Where none lie ready, the line is paused
        until the next piece has come.
        """
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
            self._chunk = memoryview(b"")
            self._at = 0
            chunk = await anext(chunks, b"")
            if not chunk:
                return
            self._chunk = memoryview(chunk)
            self._easy.pause(pycurl.PAUSE_CONT)


class CurlLines:
    """Transfers of one Transport, many at once, on the event loop that first asked.

    The lines are watched by an epoll of our own, and the event loop watches that: a line that is
    idle between two requests stays known to it, and the kernel itself forgets one that libcurl
    closes, which libcurl doesn't tell.
    """

    def __init__(self, configure: Any) -> None:
        self._loop = asyncio.get_running_loop()
        self._configure = configure
        self._multi = pycurl.CurlMulti()
        self._multi.setopt(pycurl.M_SOCKETFUNCTION, self._watch)
        self._multi.setopt(pycurl.M_TIMERFUNCTION, self._set_timer)
        self._multi.setopt(pycurl.M_MAX_TOTAL_CONNECTIONS, MOST_LINES)
        self._multi.setopt(pycurl.M_MAXCONNECTS, MOST_LINES)
        self._timer: asyncio.Handle | None = None
        self._due = 0.0
        self._free: list[CurlLine] = []
        self._busy: dict[Any, CurlLine] = {}
        self._epoll = select.epoll()
        self._watched: dict[
            int, int
        ] = {}  # descriptor → what libcurl waits for; 0: nothing, and still in the epoll
        self._loop.add_reader(self._epoll.fileno(), self._ready)

    @property
    def busy(self) -> int:
        return len(self._busy)

    def free(self) -> CurlLine:
        if self._free:
            return self._free.pop()
        line = CurlLine()
        self._configure(line.easy, line)
        return line

    def begin(self, line: CurlLine) -> asyncio.Future[None]:
        """Done with the transfer; else it raises pycurl.error.

        Call `end` afterwards, whatever came of it.
        """
        line.lines.clear()
        line.refused, line.done = None, self._loop.create_future()
        self._busy[line.easy] = line
        self._multi.add_handle(line.easy)
        return line.done

    def end(self, line: CurlLine, *, fine: bool) -> None:
        """A line whose request went well is kept for the next; one that was given up in between has
        half an answer in it, and is closed.
        """
        if self._busy.pop(line.easy, None) is not None:  # given up before its end
            self._multi.remove_handle(line.easy)
        if fine and len(self._free) < MOST_LINES:
            if isinstance(line.body, AnswerStream):
                line.easy.setopt(pycurl.HEADERFUNCTION, line.lines.append)
            line.body = NOTHING
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
        next_ms = self._multi.timeout()
        self._set_timer(next_ms)

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
        """Whoever still waits for an answer is told that it was cancelled. Nothing of libcurl may
        be called from then on.
        """
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
