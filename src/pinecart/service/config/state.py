"""The one folder that holds all state: its lock, its format number, its options, its keys.

format            the folder's format number; an older program refuses a newer folder
lock              held by the one service that works on it
options.json      what the service was started with
pinecart.sqlite3  all records
seal.key          seals the stores' secrets; kept outside the database
address, token    for the command line on this machine
runs/             a lock and a log for each run        scratch/   what a run spills while it plans
"""

from __future__ import annotations

import fcntl
import json
import os
import secrets
import sqlite3
from pathlib import Path
from typing import IO, Any, NamedTuple

from cryptography.fernet import Fernet

from pinecart.core.errors import PinecartError

NETWORK = {
    "nfs",
    "nfs4",
    "cifs",
    "smb3",
    "smbfs",
    "9p",
    "afs",
    "ceph",
    "lustre",
    "gfs2",
    "ocfs2",
    "davfs",
    "fuse.sshfs",
    "fuse.glusterfs",
}
FORMAT = 3  # raised whenever an older program could no longer work on the folder


class StateError(PinecartError):
    code = "state.unusable"


class Options(NamedTuple):
    """What `serve` was told. folders: below these, folder stores may lie. allowed: networks of this machine that may be asked.

    helpers: processes beside each run's own that carry small files.   records_s: so long a run tries to write its records.
    retry_s: so long a run goes on trying a store that is away, before it lists an object or ends.
    """

    host: str = "127.0.0.1"
    port: int = 8750
    folders: tuple[str, ...] = ()
    allowed: tuple[str, ...] = ()
    runs_at_once: int = 3
    batch_rows: int = 1000
    settle_s: float = 60.0
    least_free: int = 500 << 20
    helpers: int = 0
    records_s: float = 300.0
    retry_s: float = 300.0
    demo: str = ""

    @property
    def url(self) -> str:
        return f"http://{self.host}:{self.port}"


class State(NamedTuple):
    root: Path

    @classmethod
    def from_environment(cls) -> State:
        return cls(Path(os.environ.get("PINECART_DATA") or default_folder()))

    @property
    def database(self) -> Path:
        return self.root / "pinecart.sqlite3"

    def run_file(self, run: int, ending: str) -> Path:
        return self.root / "runs" / f"{run}.{ending}"

    @property
    def scratch(self) -> Path:
        return self.root / "scratch"

    def prepare(self) -> None:
        """Make the folder, or check that this program may use it. Raises StateError."""
        fresh = not (self.root / "format").exists()
        self.root.mkdir(parents=True, exist_ok=True)
        if fresh and any(self.root.iterdir()) and not (self.root / "lock").exists():
            raise StateError(f"{self.root} holds other files. Give an empty folder, or one that Pine Cart made.")
        if where := network_file_system(self.root, Path("/proc/self/mountinfo").read_text()):
            raise StateError(
                f"{self.root} lies on a network file system ({where}): its locks can't be trusted. Give a folder on a disk of this machine."
            )
        self.root.chmod(0o700)
        for inner in ("runs", "scratch"):
            (self.root / inner).mkdir(exist_ok=True)
        if fresh:
            self.raise_format()
        found = int((self.root / "format").read_text())
        if found > FORMAT:
            raise StateError(
                f"{self.root} was written by a newer Pine Cart (format {found}; this one knows {FORMAT}). Use that one."
            )
        if not self.database.exists():
            with sqlite3.connect(self.database) as made:  # must come before the first table
                made.execute("PRAGMA auto_vacuum=INCREMENTAL")
                made.execute("PRAGMA journal_mode=WAL")
        self._secret("seal.key", lambda: Fernet.generate_key().decode())
        self._secret("django.key", lambda: secrets.token_urlsafe(48))

    def raise_format(self) -> None:
        """From now on only programs of this format or a later one may use the folder."""
        (self.root / "format").write_text(f"{FORMAT}\n")

    def lock(self) -> IO[str]:
        """Hold the folder for this process's life. Raises StateError if another service has it."""
        file = open(self.root / "lock", "a+")  # noqa: SIM115 - open for this process's life
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as exc:
            raise StateError(
                f"Another Pine Cart service works on {self.root}. Stop it first, or give another folder."
            ) from exc
        return file

    def _secret(self, name: str, make: Any) -> str:
        file = self.root / name
        if not file.exists():
            with open(os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w") as out:
                out.write(make())
        return file.read_text()

    def free_bytes(self) -> int:
        """Free disk where this folder lies."""
        found = os.statvfs(self.root)
        return found.f_bavail * found.f_frsize

    def secret(self, name: str) -> str:
        return (self.root / name).read_text()

    def write_options(self, options: Options) -> None:
        (self.root / "options.json").write_text(json.dumps(options._asdict(), indent=1))
        (self.root / "address").write_text(options.url)

    def options(self) -> Options:
        try:
            told = json.loads((self.root / "options.json").read_text())
        except FileNotFoundError:
            return Options()
        fields: dict[str, Any] = {k: tuple(v) if isinstance(v, list) else v for k, v in told.items()}
        return Options(**fields)

    def seal(self, value: dict[str, str]) -> bytes:
        return Fernet(self.secret("seal.key")).encrypt(json.dumps(value).encode())

    def unseal(self, sealed: bytes) -> dict[str, str]:
        found: dict[str, str] = json.loads(Fernet(self.secret("seal.key")).decrypt(sealed))
        return found

    @property
    def forbidden(self) -> list[tuple[int, int]]:
        """(device, inode) of this folder: no store may enter it."""
        found = os.stat(self.root)
        return [(found.st_dev, found.st_ino)]


def network_file_system(folder: Path, mounts: str) -> str:
    """The kind of network file system that a folder lies on, and where it is mounted; empty: on none.

    mounts: the text of /proc/self/mountinfo (proc(5)): the mount point is its fifth field, the kind the first after " - ".
    """
    at, kind = "", ""
    for line in mounts.splitlines():
        fields, _, rest = line.partition(" - ")
        point = fields.split()[4].encode().decode("unicode_escape").encode("latin-1").decode("utf-8", "surrogateescape")
        if len(point) >= len(at) and folder.resolve().is_relative_to(point):
            at, kind = point, rest.split()[0]
    return f"{kind} at {at}" if kind in NETWORK else ""


def default_folder() -> Path:
    base = os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share"
    return Path(base) / "pinecart"
