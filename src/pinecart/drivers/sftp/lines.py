"""SSH connections to one server: each signed in, with its host key held against the pinned one, and
an SFTP session on it.
"""

from __future__ import annotations

import asyncio
import logging
import socket
import time
from collections.abc import Mapping
from typing import Any, NamedTuple

import asyncssh

from pinecart.core.errors import Busy, Halting, Refused, SignInRefused, StoreError, Unreachable
from pinecart.drivers.addresses import Allowed
from pinecart.drivers.sftp.host_key import HostKey, fingerprint_of, host_key_of

# Below this the library puts each packet in words, for whoever might read them: nobody does.
asyncssh.set_log_level(logging.WARNING)

MOST_LINES = 4
FULL = 32  # of so many calls on their way on each, another line is opened
# By what a processor is quick at, of those that prove each packet.
CIPHERS = (
    "aes128-gcm@openssh.com",
    "aes256-gcm@openssh.com",
    "chacha20-poly1305@openssh.com",
    "aes128-ctr",
    "aes192-ctr",
    "aes256-ctr",
)
KEEPALIVE_S = 15
RSA = ("rsa-sha2-256", "rsa-sha2-512")
ECDSA = ("ecdsa-sha2-nistp256", "ecdsa-sha2-nistp384", "ecdsa-sha2-nistp521")
HOST_KEYS = (("ssh-ed25519",), ECDSA, RSA)


class SshServer(NamedTuple):
    """Where, as whom, and what the server must prove to be."""

    name: str
    host: str
    port: int
    user: str
    password: str
    private_key: str
    passphrase: str
    host_key: HostKey | None
    allowed: Allowed
    connect_s: float
    silence_s: float

    @classmethod
    def from_spec(cls, spec: Mapping[str, Any]) -> SshServer:
        """What isn't in the spec is as by default: port 22, no key, and a host key that is shown
        before it is pinned.
        """
        return cls(
            spec["name"],
            spec["host"],
            int(spec.get("port") or 22),
            spec["user"],
            spec.get("password") or "",
            spec.get("private_key") or "",
            spec.get("passphrase") or "",
            host_key_of(spec.get("host_key") or ""),
            Allowed(tuple(spec.get("allowed", ()))),
            float(spec.get("connect_s") or 10),
            float(spec.get("silence_s") or 60),
        )

    def client_keys(self) -> list[Any]:
        """Raises SignInRefused for a key that can't be read."""
        if not self.private_key:
            return []
        try:
            return [asyncssh.import_private_key(self.private_key, self.passphrase or None)]
        except asyncssh.KeyEncryptionError as exc:
            message = f"{self.name}: the private key needs its right passphrase ({exc})."
            raise SignInRefused(message, code="store.key-locked") from exc
        except (asyncssh.KeyImportError, ValueError) as exc:
            message = (
                f"{self.name}: the private key can't be read ({exc}). Give it whole, from "
                "-----BEGIN to END-----."
            )
            raise SignInRefused(message, code="store.key-unreadable") from exc


class _Gate(asyncssh.SSHClient):
    """Looks at the host key, and remembers which one was shown."""

    def __init__(self, pinned: HostKey | None) -> None:
        self._pinned = pinned
        self.shown: HostKey | None = None

    def validate_host_public_key(
        self, host: str, addr: str, port: int, key: asyncssh.SSHKey
    ) -> bool:
        """Called by the library as it connects. The key is kept, to be shown, also where it isn't
        the pinned one and the line ends here.
        """
        self.shown = HostKey(key.get_algorithm(), fingerprint_of(key.public_data))
        return self._pinned is not None and self._pinned.is_that(self.shown)


class SshLine:
    """One connection. busy: calls that are on their way.   silence_s: so long nothing may be heard
    while there are any; then it is given up, and is_silent.
    """

    def __init__(
        self,
        connection: asyncssh.SSHClientConnection,
        sftp: asyncssh.SFTPClient,
        silence_s: float,
    ) -> None:
        self.connection = connection
        self.sftp = sftp
        self.silence_s = silence_s
        self.busy = 0
        self.is_live = True
        self.is_silent = False
        self._heard_at = time.monotonic()
        self._watched = asyncio.create_task(self._watch())

    def begin(self) -> None:
        if not self.busy:
            self._heard_at = time.monotonic()
        self.busy += 1

    def end(self) -> None:
        """Answered, well or not."""
        self._heard_at = time.monotonic()
        self.busy -= 1
        if not self.is_live and not self.busy:
            self.close()

    async def _watch(self) -> None:
        """One for all calls of the line, not one for each."""
        while self.is_live:
            await asyncio.sleep(min(self.silence_s / 4, 5))
            if self.busy and time.monotonic() - self._heard_at > self.silence_s:
                self.is_silent = True
                self.drop()

    def drop(self) -> None:
        self.is_live = False
        self.connection.abort()

    def retire(self) -> None:
        """It ends with its last call."""
        self.is_live = False
        if not self.busy:
            self.close()

    def close(self) -> None:
        self.is_live = False
        self._watched.cancel()
        self.connection.close()


class SshLines:
    """Opened as they are wanted, up to MOST_LINES; a server that gives fewer is believed."""

    def __init__(self, server: SshServer) -> None:
        self.server = server
        self._lines: list[SshLine] = []
        self._most = MOST_LINES
        self._opening = asyncio.Lock()

    async def least_busy(self) -> SshLine:
        """Raises StoreError where none can be opened."""
        while True:
            live = [line for line in self._lines if line.is_live]
            line = min(live, key=lambda line: line.busy, default=None)
            if line is not None and (line.busy < FULL or len(live) >= self._most):
                return line
            if line is not None and self._opening.locked():
                return line
            async with self._opening:
                if line is None and any(line.is_live for line in self._lines):
                    continue  # somebody opened one meanwhile
                try:
                    opened = await opened_line(self.server)
                except StoreError:
                    if line is None or not line.is_live:
                        raise
                    self._most = len(live)
                    return line
                self._lines = [line for line in self._lines if line.is_live]
                self._lines.append(opened)
                return opened

    def renew(self, server: SshServer) -> None:
        """New keys, from the next line on: those that are open end with their last call."""
        self.server = server
        for line in self._lines:
            line.retire()
        self._lines = []

    async def close(self) -> None:
        for line in self._lines:
            line.close()
        self._lines = []


async def shown_host_key(server: SshServer) -> HostKey:
    """Which key a server shows of which none is pinned: nobody signs in. Raises StoreError."""
    gate = _Gate(None)
    try:
        await _connected(server._replace(host_key=None), gate)
    except asyncssh.HostKeyNotVerifiable:
        assert gate.shown is not None
        return gate.shown
    except (asyncssh.Error, OSError) as exc:
        raise _unreachable(server, exc) from exc
    raise AssertionError("A key was accepted though none is pinned.")


async def opened_line(server: SshServer) -> SshLine:
    """Raises StoreError."""
    gate = _Gate(server.host_key)
    try:
        connection = await _connected(server, gate)
        try:
            async with asyncio.timeout(server.connect_s):
                sftp = await connection.start_sftp_client(path_encoding=None)
        except BaseException:
            connection.abort()
            raise
        return SshLine(connection, sftp, server.silence_s)
    except asyncssh.HostKeyNotVerifiable as exc:
        raise _wrong_host_key(server, gate.shown) from exc
    except asyncssh.PermissionDenied as exc:
        message = (
            f"{server.name}: {server.host} does not let {server.user} in: {exc.reason}. Check the "
            "user, the password or the key, and that the account may use SFTP."
        )
        raise SignInRefused(message) from exc
    except asyncssh.ChannelOpenError as exc:
        message = f"{server.name}: {server.host} opens no SFTP session: {exc.reason}."
        raise Busy(message, code="store.busy") from exc
    except (asyncssh.SFTPConnectionLost, asyncssh.SFTPNoConnection) as exc:
        raise _unreachable(server, exc) from exc
    except asyncssh.SFTPError as exc:
        message = (
            f"{server.name}: {server.host} has no SFTP for {server.user}: {exc.reason}. Ask "
            "whoever runs it."
        )
        raise Refused(message, code="store.no-sftp") from exc
    except (asyncssh.Error, OSError) as exc:
        raise _unreachable(server, exc) from exc


def _unreachable(server: SshServer, exc: Exception) -> Busy:
    """As an error of ours."""
    host = server.host
    if isinstance(exc, TimeoutError):
        return Busy(f"{host} did not answer in time.", code="store.silent")
    why = getattr(exc, "reason", "")
    if not why:
        why = str(exc) or type(exc).__name__
    return Unreachable(f"{server.name}: no connection to {host}: {why}.")


def _wrong_host_key(server: SshServer, shown: HostKey | None) -> Halting:
    if server.host_key is None:
        message = (
            f"{server.name}: which host key {server.host} must show isn't known yet. Try the store "
            f"and compare what it shows ({shown}) with what its owner says."
        )
        return Halting(message, code="store.host-key-unknown")
    message = (
        f"{server.name}: {server.host} shows another host key ({shown}) than the pinned one "
        f"({server.host_key}). Somebody may be in between. If its owner says that it was changed, "
        "change the store's host key."
    )
    return Halting(message, code="store.host-key-changed")


async def _connected(server: SshServer, gate: _Gate) -> asyncssh.SSHClientConnection:
    """With the pinned one of the server's host keys, which may have several."""
    first: asyncssh.HostKeyNotVerifiable | None = None
    for algorithms in _offers(server.host_key):
        try:
            return await _signed_in(server, gate, algorithms)
        except asyncssh.HostKeyNotVerifiable as exc:
            first = first or exc
        except asyncssh.PermissionDenied:
            raise
        except asyncssh.DisconnectError:  # it has no key of this kind: either side may say so first
            if first is None:
                raise
    assert first is not None
    raise first


def _offers(pinned: HostKey | None) -> list[tuple[str, ...]]:
    """Which kinds of host key are asked for, one after another; none: the server chooses."""
    if pinned is None:
        return [()]
    if pinned.algorithm:
        return [_signatures(pinned.algorithm)]
    return [(), *HOST_KEYS]


async def _signed_in(
    server: SshServer, gate: _Gate, algorithms: tuple[str, ...]
) -> asyncssh.SSHClientConnection:
    """Nothing of this machine's own SSH set-up is read: no configuration, no agent, no keys."""
    keys = server.client_keys()
    async with asyncio.timeout(server.connect_s * 2):
        sock = await _socket(server)
        try:
            connection, _ = await asyncssh.create_connection(
                lambda: gate,
                server.host,
                server.port,
                sock=sock,
                config=None,
                known_hosts=([], [], []),
                username=server.user,
                password=server.password or None,
                client_keys=keys or None,
                agent_path=None,
                gss_host=None,
                x509_trusted_certs=None,
                encryption_algs=CIPHERS,
                compression_algs=None,
                keepalive_interval=KEEPALIVE_S,
                login_timeout=server.connect_s * 2,
                server_host_key_algs=algorithms,
            )
        except BaseException:
            sock.close()
            raise
    return connection


def _signatures(algorithm: str) -> tuple[str, ...]:
    """By which a key of this kind may sign: never SHA-1."""
    if algorithm == "ssh-rsa":
        return RSA
    return (algorithm,)


async def _socket(server: SshServer) -> socket.socket:
    """A connection to an allowed address of the host. Raises StoreError."""
    loop = asyncio.get_running_loop()
    try:
        found = await loop.getaddrinfo(server.host, server.port, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError) as exc:
        message = f"{server.host} is not known. Check the address for typing errors."
        raise Unreachable(message, code="store.unresolved") from exc
    failed: OSError | None = None
    for family, kind, protocol, _, address in found:
        server.allowed.check(str(address[0]))
        sock = socket.socket(family, kind, protocol)
        sock.setblocking(False)
        sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        try:
            await loop.sock_connect(sock, address)
        except OSError as exc:
            sock.close()
            failed = exc
        except BaseException:
            sock.close()
            raise
        else:
            return sock
    message = f"{server.host} port {server.port} can't be reached ({failed}). Check that it runs."
    raise Unreachable(message)
