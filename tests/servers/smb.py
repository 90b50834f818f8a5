"""Samba on loopback, with a configuration of its own."""

from __future__ import annotations

import contextlib
import os
import pwd
import shutil
import signal
import socket
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

from tests.whole.house import free_port, pids_of, until

UNIX = pwd.getpwuid(os.geteuid()).pw_name
USER, PASSWORD = "partner", "larkfell"
CONFIG = """
[global]
server role = standalone server
workgroup = LARKFELL
interfaces = 127.0.0.1/8
bind interfaces only = yes
smb ports = {port}
disable netbios = yes
server min protocol = SMB2_10
private dir = {home}/private
state directory = {home}/state
cache directory = {home}/cache
lock directory = {home}/lock
pid directory = {home}/run
ncalrpc dir = {home}/ncalrpc
log file = {home}/log
passdb backend = tdbsam:{home}/private/passdb.tdb
username map = {home}/users
load printers = no
printing = bsd
printcap name = /dev/null
disable spoolss = yes
store dos attributes = yes
{more}
[data]
path = {root}
read only = no
force user = {unix}
[looks]
copy = data
read only = yes
"""


class Samba:
    """The account of the system that runs it is the user, under a name of its own."""

    def __init__(self, home: Path, more: str = "") -> None:
        self.home, self.root, self.port = home, home / "share", free_port()
        for name in ["share", "private", "state", "cache", "lock", "run", "ncalrpc"]:
            (home / name).mkdir(mode=0o755)
        told = CONFIG.format(home=home, port=self.port, root=self.root, unix=UNIX, more=more)
        (home / "conf").write_text(told)
        (home / "users").write_text("")
        self.password = PASSWORD
        (home / "users").write_text(f"{UNIX} = {USER}\n")
        self.process: subprocess.Popen[bytes] | None = None

    @property
    def password(self) -> str:
        return self._password

    @password.setter
    def password(self, password: str) -> None:
        self._password = password
        subprocess.run(
            ["smbpasswd", "-c", self.home / "conf", "-L", "-s", "-a", UNIX],
            input=f"{password}\n{password}\n".encode(),
            check=True,
            capture_output=True,
        )

    def start(self) -> None:
        command = [
            "/usr/sbin/smbd",
            "-F",
            "--no-process-group",
            "-s",
            self.home / "conf",
            "-l",
            self.home,
        ]
        self.process = subprocess.Popen(
            command, stdin=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
        )
        until(self.answers, 60, "the SMB server")

    def answers(self) -> bool:
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", self.port), 1):
            return True
        return False

    def stop(self) -> None:
        """And all of its sessions."""
        assert self.process is not None
        os.kill(self.process.pid, signal.SIGSTOP)  # it starts no more
        self._tell(signal.SIGKILL, *self._sessions(), self.process.pid)
        self.process.wait()

    def cut(self) -> None:
        """Its sessions, not itself."""
        self._tell(signal.SIGKILL, *self._sessions())

    @contextlib.contextmanager
    def frozen(self) -> Iterator[None]:
        """It takes nothing off its lines, and says nothing."""
        assert self.process is not None
        pids = self.process.pid, *self._sessions()
        self._tell(signal.SIGSTOP, *pids)
        try:
            yield
        finally:
            self._tell(signal.SIGCONT, *pids)

    def _sessions(self) -> list[int]:
        assert self.process is not None
        return pids_of(self.process.pid)

    def _tell(self, what: signal.Signals, *pids: int) -> None:
        for pid in pids:
            with contextlib.suppress(ProcessLookupError):
                os.kill(pid, what)

    def folder(self, name: str) -> Path:
        root = self.root / name
        root.mkdir(parents=True)
        return root

    def spec(self, root: Path | str = "", **more: object) -> dict[str, object]:
        return {
            "kind": "smb",
            "host": "127.0.0.1",
            "port": str(self.port),
            "share": "data",
            "user": USER,
            "password": self.password,
            "root": str(Path(root).relative_to(self.root)) if root else "",
        } | more


@contextlib.contextmanager
def samba(more: str = "") -> Iterator[Samba]:
    """Below the temporary folder itself: names of its sockets have few letters."""
    home = Path(tempfile.mkdtemp(prefix="pinecart-smb-"))
    home.chmod(0o755)
    server = Samba(home, more)
    server.start()
    try:
        yield server
    finally:
        server.stop()
        shutil.rmtree(home, ignore_errors=True)
