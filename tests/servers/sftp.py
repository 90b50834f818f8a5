"""SFTP servers on loopback that we did not write: OpenSSH, and one in Python with other habits (no
atomic replacing, no flushing, passwords).
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import pwd
import signal
import socket
import subprocess
import threading
from collections import Counter
from pathlib import Path

import asyncssh

from tests.whole.house import free_port, pids_of, until

SSHD = "/usr/sbin/sshd"
USER = pwd.getpwuid(os.geteuid()).pw_name
CONFIG = """
Port {port}
ListenAddress 127.0.0.1
HostKey {home}/host_key
PidFile {home}/pid
AuthorizedKeysFile {home}/authorized_keys
StrictModes no
UsePAM no
PasswordAuthentication no
KbdInteractiveAuthentication no
PermitRootLogin prohibit-password
AllowTcpForwarding no
MaxStartups 100
MaxSessions 100
Subsystem sftp internal-sftp
ForceCommand internal-sftp
"""


class OpenSsh:
    """Its own host key and user key; `stop` and `start` it at will."""

    def __init__(self, home: Path) -> None:
        self.home, self.port = home, free_port()
        self.home.mkdir(exist_ok=True)
        for name in ("host_key", "user_key"):
            self.make_key(name)
        (home / "authorized_keys").write_bytes((home / "user_key.pub").read_bytes())
        (home / "sshd_config").write_text(CONFIG.format(port=self.port, home=home))
        if not os.geteuid():
            Path("/run/sshd").mkdir(exist_ok=True)
        self.start()

    def make_key(self, name: str) -> None:
        for old in (self.home / name, self.home / f"{name}.pub"):
            old.unlink(missing_ok=True)
        ask = ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(self.home / name)]
        subprocess.run(ask, check=True)

    def start(self) -> None:
        command = [SSHD, "-D", "-f", str(self.home / "sshd_config"), "-E", str(self.home / "log")]
        self.process = subprocess.Popen(command, start_new_session=True)
        until(self.answers, what="the SSH server to answer")

    def answers(self) -> bool:
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", self.port)):
            return True
        return False

    def stop(self) -> None:
        """And all of its sessions: first none may begin another one any more."""
        held, new = set[int](), {self.process.pid}
        while new:
            _tell(signal.SIGSTOP, new)
            held |= new
            new = {*pids_of(self.process.pid)} - held
        _tell(signal.SIGKILL, held)
        self.process.wait()

    @property
    def host_key(self) -> str:
        return " ".join((self.home / "host_key.pub").read_text().split()[:2])

    def spec(self, root: Path | str, **more: object) -> dict[str, object]:
        return {
            "kind": "sftp",
            "host": "127.0.0.1",
            "port": str(self.port),
            "user": USER,
            "private_key": (self.home / "user_key").read_text(),
            "host_key": self.host_key,
            "root": str(root),
        } | more


def _tell(what: signal.Signals, pids: set[int]) -> None:
    for pid in pids:
        with contextlib.suppress(ProcessLookupError):
            os.kill(pid, what)


class _Plain(asyncssh.SFTPServer):
    """Below one folder. Habits are set on the class that `python_sftp` makes."""

    root = b""
    refuses: frozenset[str] = frozenset()
    server: PythonSftp

    def __init__(self, chan: asyncssh.SSHServerChannel) -> None:
        super().__init__(chan, chroot=self.root)

    def _can(self, what: str) -> None:
        if what in self.refuses:
            raise asyncssh.SFTPOpUnsupported("not here")

    def posix_rename(self, oldpath: bytes, newpath: bytes) -> None:
        self._can("replace")
        super().posix_rename(oldpath, newpath)
        self.server.happened("rename")

    def rename(self, oldpath: bytes, newpath: bytes) -> None:
        if "guarding" in self.refuses:  # it replaces what is there without a word
            super().posix_rename(oldpath, newpath)
        else:
            super().rename(oldpath, newpath)
        self.server.happened("rename")

    def open(self, path: bytes, pflags: int, attrs: asyncssh.SFTPAttrs) -> object:
        if self.server.handles <= 0:
            raise asyncssh.SFTPFailure("Too many open files")
        file = super().open(path, pflags, attrs)
        self.server.handles -= 1
        self.server.happened("open")
        return file

    def close(self, file_obj: object) -> None:
        self.server.handles += 1
        super().close(file_obj)

    def write(self, file_obj: object, offset: int, data: bytes) -> int:
        self.server.happened("write")
        return super().write(file_obj, offset, data)

    def read(self, file_obj: object, offset: int, size: int) -> bytes:
        self.server.happened("read")
        return super().read(file_obj, offset, size)

    async def scandir(self, path: bytes):
        async for entry in super().scandir(path):
            if "kinds" in self.refuses:
                entry.attrs.permissions = None
            yield entry
        for name in self.server.lies:
            yield asyncssh.SFTPName(name, b"", asyncssh.SFTPAttrs(size=1, permissions=0o100644))

    def remove(self, path: bytes) -> None:
        super().remove(path)
        self.server.happened("remove")

    def fsync(self, file_obj: object) -> None:
        self._can("flush")
        super().fsync(file_obj)

    def setstat(self, path: bytes, attrs: asyncssh.SFTPAttrs, **more: object) -> None:
        self._can("times")
        super().setstat(path, attrs, **more)

    def fsetstat(self, file_obj: object, attrs: asyncssh.SFTPAttrs) -> None:
        self._can("times")
        super().fsetstat(file_obj, attrs)


class PythonSftp:
    """user and password; `password` may be changed while it works."""

    def __init__(self, root: Path, refuses: frozenset[str] = frozenset()) -> None:
        self.port, self.password, self.logins = free_port(), "larkfell", 0
        self.most, self.handles = 100, 10_000  # lines at once; files that may still be opened
        self.lies: list[bytes] = []  # names that it lists besides
        self.key = asyncssh.generate_private_key("ssh-ed25519")
        self.other_key = asyncssh.generate_private_key("ecdsa-sha2-nistp256")
        self.connections: set[asyncssh.SSHServerConnection] = set()
        server = self

        class Gate(asyncssh.SSHServer):
            def connection_made(self, conn: asyncssh.SSHServerConnection) -> None:
                self._conn = conn
                if len(server.connections) >= server.most:
                    return conn.abort()
                server.connections.add(conn)

            def connection_lost(self, exc: Exception | None) -> None:
                server.connections.discard(self._conn)

            def password_auth_supported(self) -> bool:
                return True

            def validate_password(self, username: str, password: str) -> bool:
                server.logins += 1
                return (username, password) == ("partner", server.password)

        self.cuts = Counter[str]()  # so many lines are cut as this happens, before it is answered
        habits = {"root": str(root).encode(), "refuses": refuses, "server": self}
        self._factory = type("Habits", (_Plain,), habits)
        self._gate = Gate
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, daemon=True)

    async def _listen(self) -> None:
        self._server = await asyncssh.listen(
            "127.0.0.1",
            self.port,
            server_factory=self._gate,
            server_host_keys=[self.key, self.other_key],
            sftp_factory=self._factory,
        )

    def in_loop(self, coroutine: object) -> object:
        return asyncio.run_coroutine_threadsafe(coroutine, self._loop).result(30)  # type: ignore[arg-type]

    def happened(self, what: str) -> None:
        if self.cuts[what]:
            self.cuts[what] -= 1
            for connection in list(self.connections):
                connection.abort()

    def cut(self) -> None:
        """All lines, now."""
        for connection in list(self.connections):
            self._loop.call_soon_threadsafe(connection.abort)

    def __enter__(self) -> PythonSftp:
        self._thread.start()
        self.in_loop(self._listen())
        return self

    def __exit__(self, *_: object) -> None:
        self.cut()
        self._loop.call_soon_threadsafe(self._server.close)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(10)

    def spec(self, root: str = "", **more: object) -> dict[str, object]:
        return {
            "kind": "sftp",
            "host": "127.0.0.1",
            "port": str(self.port),
            "user": "partner",
            "password": self.password,
            "host_key": self.key.export_public_key().decode(),
            "root": root,
        } | more


@contextlib.contextmanager
def openssh(home: Path):
    server = OpenSsh(home)
    try:
        yield server
    finally:
        server.stop()
