"""One line to an SMB server, shared by the threads that ask over it; opened anew where it was cut
or fell silent.
"""

from __future__ import annotations

import asyncio
import contextlib
import socket
import threading
import time
import uuid
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from typing import Any, NamedTuple, TypeVar

from smbprotocol.connection import Connection
from smbprotocol.exceptions import (
    AccessDenied,
    BadNetworkName,
    LogonFailure,
    SMBAuthenticationError,
    SMBException,
    SMBResponseException,
)
from smbprotocol.session import Session
from smbprotocol.tree import TreeConnect

from pinecart.core.errors import Busy, Halting, SignInRefused, StoreError, Unreachable
from pinecart.drivers.addresses import Allowed
from pinecart.drivers.smb.status import ACCOUNTS
from pinecart.drivers.smb.wire import PORT

T = TypeVar("T")
AT_ONCE = 12  # calls; each a thread that waits
CREDITS = 512  # of 64 KiB each: what may be on its way (MS-SMB2 3.2.4.1.2)
CONNECT_S = 10.0
SILENCE_S = 60.0
WATCHED_S = 1.0


class SmbServer(NamedTuple):
    """Where it is, and who we are there. encrypts: nothing goes over the line in clear."""

    name: str
    host: str
    port: int
    share: str
    user: str
    password: str
    domain: str
    encrypts: bool
    allowed: Allowed
    connect_s: float
    silence_s: float

    @classmethod
    def from_spec(cls, spec: Mapping[str, Any]) -> SmbServer:
        return cls(
            name=spec["name"],
            host=spec["host"],
            port=int(spec.get("port") or PORT),
            share=spec["share"],
            user=spec["user"],
            password=spec.get("password") or "",
            domain=spec.get("domain") or "",
            encrypts=spec.get("encrypt") == "yes",
            allowed=Allowed(tuple(spec.get("allowed", ()))),
            connect_s=float(spec.get("connect_s") or CONNECT_S),
            silence_s=float(spec.get("silence_s") or SILENCE_S),
        )

    def __repr__(self) -> str:
        return f"SmbServer({self.user!r} at {self.host}:{self.port}/{self.share})"

    def address(self) -> str:
        """The one that is asked, after it was seen to be allowed. Raises Unreachable, Refused."""
        try:
            found = socket.getaddrinfo(self.host, self.port, type=socket.SOCK_STREAM)
        except (OSError, UnicodeError) as exc:
            message = f"{self.host} is not known. Check the address for typing errors."
            raise Unreachable(message, code="store.unresolved") from exc
        address = str(found[0][4][0])
        self.allowed.check(address)
        return address


class SmbLine:
    """Signed in, with the share at hand."""

    def __init__(self, connection: Connection, session: Session, tree: TreeConnect) -> None:
        self.connection = connection
        self.session = session
        self.tree = tree
        self.is_silent = False

    @property
    def is_live(self) -> bool:
        return bool(self.connection.transport.connected) and not self.is_silent

    def close(self) -> None:
        """Whoever waits for an answer is told."""
        _cut(self.connection)


class SmbLines:
    """Calls of the library block: each is one thread's. A watch closes a line that has ended, and
    one on which a call was waited for too long with nothing heard.
    """

    def __init__(self, server: SmbServer) -> None:
        self.server = server
        self._threads = ThreadPoolExecutor(AT_ONCE, thread_name_prefix="smb")
        self._line: SmbLine | None = None
        self._opening = threading.Lock()
        self._waiting: dict[int, tuple[float, SmbLine]] = {}  # call → since when, and on which
        self._heard_at = 0.0
        self._watch: asyncio.Task[None] | None = None
        self._calls = 0
        self._left: list[SmbLine] = []  # with handles that are still in use

    async def do(self, call: Callable[[SmbLine], T], line: SmbLine | None = None) -> T:
        """line: the one that a handle belongs to; None: any."""
        if self._watch is None or self._watch.done():
            self._watch = asyncio.create_task(self._watched())
        self._calls += 1
        loop = asyncio.get_running_loop()
        number = self._calls
        try:
            return await loop.run_in_executor(self._threads, self._called, call, line, number)
        finally:
            self._waiting.pop(number, None)
            self._heard_at = time.monotonic()

    def _called(self, call: Callable[[SmbLine], T], line: SmbLine | None, number: int) -> T:
        """In a thread: one call on the line that is open now. What the library raises where a line
        ends under it is told as a cut line, and the line is closed.
        """
        asked = line or self._opened()
        self._waiting[number] = (time.monotonic(), asked)
        if not asked.is_live:
            raise Busy(
                f"{self.server.name}: the line was cut. It is tried again.", code="store.cut"
            )
        try:
            return call(asked)
        except SMBResponseException:
            raise
        except StoreError:
            raise
        except (SMBException, OSError, ValueError, AttributeError, TypeError) as exc:
            if asked.is_live and isinstance(exc, AttributeError | TypeError):
                raise  # a defect: the library has them as well where a line ended under it
            why = "it has not answered for long" if asked.is_silent else str(exc)[:200]
            asked.close()  # what came of it can't be told
            message = f"{self.server.name}: the line was cut ({why}). It is tried again."
            code = "store.silent" if asked.is_silent else "store.cut"
            raise Busy(message, code=code) from exc

    def _opened(self) -> SmbLine:
        """The line that all share; a new one where that has ended."""
        with self._opening:
            if self._line is None or not self._line.is_live:
                self._line = opened_line(self.server)
            return self._line

    async def _watched(self) -> None:
        """Whoever waits longer than the server's patience has its line closed under it: the library
        itself waits for ever.
        """
        while True:
            await asyncio.sleep(WATCHED_S)
            now = time.monotonic()
            for since, line in list(self._waiting.values()):
                if line.is_live:
                    line.is_silent = now - max(since, self._heard_at) > self.server.silence_s
                if not line.is_live:
                    await asyncio.to_thread(line.close)

    def begin_anew(self) -> None:
        """With the next call."""
        if self._line is not None:
            self._left.append(self._line)
        self._line = None

    def renew(self, server: SmbServer) -> None:
        """A new password, from the next line on; what is on its way ends on the old one."""
        self.server = server
        self.begin_anew()

    async def close(self) -> None:
        """Lines that were left behind are closed too, as what waited on them has ended."""
        if self._watch is not None:
            self._watch.cancel()
            await asyncio.gather(self._watch, return_exceptions=True)
        self.begin_anew()
        for line in self._left:
            await asyncio.to_thread(line.close)
        self._left.clear()
        self._threads.shutdown(wait=False)


def opened_line(server: SmbServer) -> SmbLine:
    """Raises SignInRefused, Halting, Unreachable, Busy, Refused."""
    address = server.address()
    connection = Connection(uuid.uuid4(), address, server.port, require_signing=True)
    try:
        connection.connect(timeout=server.connect_s)
    except ValueError as exc:
        message = f"{server.host} can't be reached ({exc.__cause__ or exc}). Check the address."
        raise Unreachable(message) from exc
    except SMBException as exc:
        _cut(connection)
        message = f"{server.host} does not answer as SMB 2 or 3 does ({str(exc)[:200]})."
        raise Busy(message, code="store.no-smb") from exc
    silent = threading.Timer(server.silence_s, _cut, (connection,))  # its calls know no limit
    silent.start()
    try:
        return _signed_in(server, connection)
    except BaseException:
        _cut(connection)
        raise
    finally:
        silent.cancel()


def _cut(connection: Connection) -> None:
    """Its calls end, whether they wait for room on the line or for an answer: the library's own end
    would itself wait for the room, and wakes nobody where its reader has ended before.
    """
    with contextlib.suppress(Exception):
        connection.transport._sock.shutdown(socket.SHUT_RDWR)
    with contextlib.suppress(Exception):
        connection.disconnect(close=False)
    for request in list(connection.outstanding_requests.values()):
        request.response_event.set()


def _signed_in(server: SmbServer, connection: Connection) -> SmbLine:
    user = f"{server.domain}\\{server.user}" if server.domain else server.user
    session = Session(
        connection,
        user,
        server.password,
        require_encryption=server.encrypts,
        auth_protocol="ntlm",
    )
    try:
        session.connect()
        connection.echo(sid=session.session_id, credit_request=CREDITS)
        tree = TreeConnect(session, rf"\\{server.host}\{server.share}")
        tree.connect()
    except BadNetworkName as exc:
        message = f"{server.name}: there is no share {server.share!r} on {server.host}."
        raise Halting(message, code="store.no-share") from exc
    except AccessDenied as exc:
        message = f"{server.name}: {server.user} may not use the share {server.share!r}."
        raise Halting(message, code="store.no-share") from exc
    except (LogonFailure, SMBAuthenticationError) as exc:
        message = f"{server.name}: user or password is not accepted."
        raise SignInRefused(message) from exc
    except SMBResponseException as exc:
        why = ACCOUNTS.get(exc.status)
        if why:
            message = f"{server.name}: the account {server.user} can't sign in: {why}."
            raise SignInRefused(message) from exc
        raise Busy(f"{server.name}: {str(exc)[:200]}", code="store.busy") from exc
    except (SMBException, OSError) as exc:
        if server.encrypts and not connection.supports_encryption:
            message = f"{server.name}: the server can't encrypt. Leave that out, or ask its owner."
            raise Halting(message, code="store.no-encryption") from exc
        message = f"{server.name}: the line was cut ({str(exc)[:200]}). It is tried again."
        raise Busy(message, code="store.cut") from exc
    return SmbLine(connection, session, tree)
