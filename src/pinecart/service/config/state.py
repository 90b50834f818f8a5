"""The one folder that holds all state: its lock, its format number, its options, its keys.

format            the folder's format number (an older program refuses a newer folder), and the id
that its database has too in-use            there while a service works; still there afterwards: it
did not end cleanly lock              held by the one service that works on it options.json
what the service was started with pinecart.sqlite3  all records seal.key          seals the stores'
secrets; kept outside the database trail.key, sign.key  chain the trail, and sign what is handed
over address, token    for the command line on this machine runs/
a lock and a log for each run        scratch/   what a run spills while it plans
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import json
import os
import secrets
import sqlite3
from pathlib import Path
from typing import IO, Any, NamedTuple

from cryptography.fernet import Fernet, InvalidToken
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from pinecart.core.errors import PinecartError
from pinecart.json_object import JsonObject

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
FORMAT = 4  # raised whenever an older program could no longer work on the folder


class StateError(PinecartError):
    """The folder can't be worked on as it is now."""

    code = "state.unusable"


class WrongFolder(StateError):
    """It is not a folder to work on at all: another one was meant."""

    code = "state.wrong-folder"


# What a start that came to nothing may have left: no reason to take the folder for somebody else's.
OURS = {
    "lock",
    "runs",
    "scratch",
    "seal.key",
    "django.key",
    "format.new",
    "pinecart.new",
    "seal.key.new",
    "django.key.new",
    "trail.key",
    "trail.key.new",
    "sign.key",
    "sign.key.new",
}


class Options(NamedTuple):
    """What `serve` was told. folders: below these, folder stores may lie. allowed: networks of this
    machine that may be asked.

    helpers: processes beside each run's own that carry small files.   records_s: so long a run
    tries to write its records. retry_s: so long a run goes on trying a store that is away, before
    it lists an object or ends. behind: addresses of proxies that are believed about whom they speak
    for.   known_as: names it may be asked under. certificate, key: files, with which it speaks TLS
    itself.   second_factor: of whom it is asked, "by-choice" or "administrators".   log_format:
    of the service's own output, "plain" or "json".
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
    behind: tuple[str, ...] = ()
    known_as: tuple[str, ...] = ()
    certificate: str = ""
    key: str = ""
    second_factor: str = "by-choice"
    log_format: str = "plain"

    @property
    def url(self) -> str:
        return f"{'https' if self.certificate else 'http'}://{self.host}:{self.port}"


class StateFolder(NamedTuple):
    root: Path

    @classmethod
    def from_environment(cls) -> StateFolder:
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
        """Make the folder, or check that this program may use it.

        Raises StateError: then nothing was changed.
        """
        try:
            self._prepare()
        except PermissionError as exc:
            message = (
                f"This account may not use {self.root} ({exc.strerror}: {exc.filename}). Give "
                "the account the right, or another folder."
            )
            raise StateError(message, code="state.not-allowed") from exc
        except OSError as exc:
            why = {
                errno.ENOSPC: "The disk is full. Make room.",
                errno.EROFS: "The disk is mounted read-only.",
            }
            message = (
                f"{self.root} can't be used: {why.get(exc.errno or 0, exc.strerror or str(exc))}"
            )
            raise StateError(message, code="state.disk") from exc

    def _prepare(self) -> None:
        """Looked at in an order in which nothing is written before it is sure that the folder is
        ours, whole, and on a disk of this machine. Raises StateError.
        """
        if self.root.exists() and not self.root.is_dir():
            raise WrongFolder(f"{self.root} is a file. Give a folder.")
        fresh = not (self.root / "format").exists()
        if fresh and self.database.exists() and not self._has_tables():
            self.database.unlink()  # of a start that came to nothing
        if fresh and self.database.exists():
            message = (
                f"{self.root} has a database and no format file: a part of it is missing. Put "
                "the whole folder back from a backup."
            )
            raise StateError(message, code="state.incomplete")
        if fresh and self.root.exists() and set(os.listdir(self.root)) - OURS:
            raise WrongFolder(
                f"{self.root} holds other files. Give an empty folder, or one that Pine Cart made."
            )
        if not fresh:
            self.check_format()
        self.root.mkdir(parents=True, exist_ok=True)
        where = network_file_system(self.root, Path("/proc/self/mountinfo").read_text())
        if where:
            raise WrongFolder(
                f"{self.root} lies on a network file system ({where}): its locks can't be "
                "trusted. Give a folder on a disk of this machine."
            )
        self.root.chmod(0o700)
        for inner in ("runs", "scratch"):
            (self.root / inner).mkdir(exist_ok=True)
        if fresh:
            self._make_database()
            self._secret("seal.key", lambda: Fernet.generate_key().decode())
            self._make_other_keys()
            self.raise_format(secrets.token_hex(8))  # last: without it nothing was made
        else:
            self._check_database()
            self.database.chmod(0o600)
            self._check_key()
            self._check_that_they_belong_together()
            self._make_other_keys()

    def _make_other_keys(self) -> None:
        """Those that nothing is lost with: sessions end, and what was signed before is checked with
        the old public key.
        """
        self._secret("django.key", lambda: secrets.token_urlsafe(48))
        self._secret("trail.key", lambda: secrets.token_hex(32))
        self._secret("sign.key", lambda: Ed25519PrivateKey.generate().private_bytes_raw().hex())

    def _has_tables(self) -> bool:
        try:
            with contextlib.closing(
                sqlite3.connect(f"file:{self.database}?mode=ro", uri=True)
            ) as opened:
                return bool(opened.execute("SELECT count(*) FROM sqlite_master").fetchone()[0])
        except sqlite3.DatabaseError:
            return True

    def _make_database(self) -> None:
        new = self.database.with_suffix(".new")
        new.unlink(missing_ok=True)
        os.close(os.open(new, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
        with contextlib.closing(sqlite3.connect(new)) as made:  # must come before the first table
            made.execute("PRAGMA auto_vacuum=INCREMENTAL")
            made.execute("PRAGMA user_version=1")
            made.execute("VACUUM")
        new.rename(self.database)

    def check_format(self) -> None:
        """Raises StateError for a newer format, or for what is none."""
        number = self._format()[0]
        if not number.isdecimal():
            message = (
                f"{self.root / 'format'} can't be read: it should hold a number and an id. Put "
                f"it back from a backup, or write {FORMAT} into it if you know that this program "
                "made the folder."
            )
            raise StateError(message, code="state.format-unreadable")
        if int(number) > FORMAT:
            message = (
                f"{self.root} was written by a newer Pine Cart (format {number}; this one knows "
                f"{FORMAT}). Use that one."
            )
            raise StateError(message, code="state.newer")

    def _format(self) -> tuple[str, str]:
        """The format number and the id, as they stand there."""
        words = (self.root / "format").read_text(errors="replace").split()
        return (words or [""])[0], words[1] if len(words) > 1 else ""

    @property
    def id(self) -> str:
        """What this folder's database has as well; empty in a folder that an
        earlier release made.
        """
        return self._format()[1]

    def _check_database(self) -> None:
        """Raises StateError if there is none, it is damaged, or its last records
        were taken away.
        """
        backup = "Put the folder back from a backup"
        copy = self.root / "before-migration.sqlite3"
        backup += (
            f" (the copy made before the last upgrade is {copy.name})." if copy.exists() else "."
        )
        if not self.database.exists() or not self.database.stat().st_size:
            message = (
                f"{self.database.name} is {'empty' if self.database.exists() else 'missing'}, "
                f"and this folder was worked with: its records are lost. {backup} To begin anew, "
                "give another folder."
            )
            raise StateError(message, code="state.no-database")
        if (self.root / "in-use").exists() and not self.database.with_name(
            self.database.name + "-wal"
        ).exists():
            message = (
                f"The service did not end cleanly, and {self.database.name}-wal, which holds the "
                "last records, is gone. Put that file back. To go on without those records: "
                f"pinecart check --data {self.root} --go-on"
            )
            raise StateError(message, code="state.records-missing")
        problems = self.damage(quick=True)
        if problems:
            message = (
                f"{self.database.name} is damaged ({problems[0]}). {backup} See all of it: "
                f"pinecart check --data {self.root}"
            )
            raise StateError(message, code="state.damaged")

    def damage(self, *, quick: bool) -> list[str]:
        """What SQLite finds wrong with the database; none: nothing."""
        try:
            with contextlib.closing(sqlite3.connect(self.database, timeout=5)) as opened:
                check = "PRAGMA quick_check(5)" if quick else "PRAGMA integrity_check(20)"
                found = [row[0] for row in opened.execute(check)]
        except sqlite3.OperationalError as exc:
            if "locked" in str(exc):
                return []
            return [str(exc)]
        except sqlite3.DatabaseError as exc:
            return [str(exc)]
        if found == ["ok"]:
            return []
        return found

    def _check_key(self) -> None:
        if not (self.root / "seal.key").exists():
            message = (
                f"{self.root / 'seal.key'} is missing: without it the stores' secrets in the "
                "database can't be read. Put it back from where you keep it. If it is lost for "
                "good, begin with a new one, and give each store its key again: pinecart check "
                f"--data {self.root} --new-key"
            )
            raise StateError(message, code="state.no-key")

    def _check_that_they_belong_together(self) -> None:
        """Raises StateError if the database, or the key, is another folder's."""
        with contextlib.closing(sqlite3.connect(self.database, timeout=5)) as opened:
            try:
                known, sealed = opened.execute(
                    "SELECT folder, sealed FROM runs_instance"
                ).fetchone() or ("", b"")
            except sqlite3.OperationalError:  # an earlier release's, which knows of no ids
                return
        if known and known != self.id:
            message = (
                f"The database in {self.root} is not this folder's: it has the id {known}, and "
                f"the folder {self.id}. Put the whole folder back from one backup."
            )
            raise StateError(message, code="state.other-database")
        if known and not self.opens(sealed) and not self.accepts_new_key():
            message = (
                f"{self.root / 'seal.key'} is not the key of this database: the stores' secrets "
                "can't be read with it. Put the right one back. If it is lost for good: take "
                f"this one away, and begin with a new one: pinecart check --data {self.root} "
                "--new-key"
            )
            raise StateError(message, code="state.other-key")

    def opens(self, sealed: bytes) -> bool:
        """Whether this folder's key opens it."""
        try:
            self.unseal(bytes(sealed))
        except (InvalidToken, ValueError):
            return False
        return True

    def new_key(self) -> None:
        """A key for a database whose own is lost: what was sealed stays unreadable, and is asked
        for again.
        """
        if (self.root / "seal.key").exists():
            raise StateError(
                f"{self.root / 'seal.key'} is there. Take it away first, if it is not the "
                "right one."
            )
        self._secret("seal.key", lambda: Fernet.generate_key().decode())
        write_whole(self.root / "new-key", "The next start takes seal.key for this database's.\n")

    def accepts_new_key(self) -> bool:
        return (self.root / "new-key").exists()

    def accepted_new_key(self) -> None:
        (self.root / "new-key").unlink(missing_ok=True)

    def raise_format(self, made_id: str = "") -> None:
        """From now on only programs of this format or a later one may use the folder."""
        known = made_id or self.id
        write_whole(self.root / "format", f"{FORMAT} {known}\n" if known else f"{FORMAT}\n")

    def begin_use(self) -> None:
        write_whole(self.root / "in-use", f"{os.getpid()}\n")

    def end_use(self) -> None:
        """A clean end: nothing waits in a write-ahead log any more."""
        with (
            contextlib.suppress(sqlite3.Error),
            contextlib.closing(sqlite3.connect(self.database, timeout=1)) as opened,
        ):
            opened.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        (self.root / "in-use").unlink(missing_ok=True)

    def lock(self) -> IO[str]:
        """Hold the folder for this process's life. Raises StateError if another service has it."""
        try:
            file = open(self.root / "lock", "a+")  # noqa: SIM115 - open for this process's life
        except OSError as exc:
            raise StateError(
                f"{self.root / 'lock'} can't be opened ({exc.strerror}). Give this account "
                "the right."
            ) from exc
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as exc:
            raise StateError(
                f"Another Pine Cart service works on {self.root}. Stop it first, or give "
                "another folder."
            ) from exc
        return file

    def _secret(self, name: str, make: Any) -> str:
        file = self.root / name
        if not file.exists():
            text = make()
            write_whole(file, text)
        return file.read_text()

    def free_bytes(self) -> int:
        """Free disk where this folder lies."""
        found = os.statvfs(self.root)
        return found.f_bavail * found.f_frsize

    def secret(self, name: str) -> str:
        return (self.root / name).read_text()

    def write_options(self, options: Options) -> None:
        write_whole(self.root / "options.json", json.dumps(options._asdict(), indent=1))
        write_whole(self.root / "address", options.url)

    def options(self) -> Options:
        """As they were given when the service was started; a state folder without any was used by
        commands alone.
        """
        try:
            told = json.loads((self.root / "options.json").read_text())
        except FileNotFoundError:
            return Options()
        fields: JsonObject = {k: tuple(v) if isinstance(v, list) else v for k, v in told.items()}
        return Options(**fields)

    @property
    def trail_key(self) -> bytes:
        """With which the trail's entries are chained."""
        return bytes.fromhex(self.secret("trail.key"))

    @property
    def sign_key(self) -> Ed25519PrivateKey:
        """With which this service vouches for what it hands over."""
        return Ed25519PrivateKey.from_private_bytes(bytes.fromhex(self.secret("sign.key")))

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


def write_whole(file: Path, text: str) -> None:
    """A file that is there whole or not at all, for this account alone."""
    new = file.with_name(file.name + ".new")
    with open(os.open(new, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as out:
        out.write(text)
        out.flush()
        os.fsync(out.fileno())
    new.rename(file)


def network_file_system(folder: Path, mounts: str) -> str:
    """The kind of network file system that a folder lies on, and where it is mounted; empty: on
    none.

    mounts: the text of /proc/self/mountinfo (proc(5)): the mount point is its fifth field, the kind
    the first after " - ".
    """
    at = ""
    kind = ""
    for line in mounts.splitlines():
        fields, _, rest = line.partition(" - ")
        point = (
            fields.split()[4]
            .encode()
            .decode("unicode_escape")
            .encode("latin-1")
            .decode("utf-8", "surrogateescape")
        )
        if len(point) >= len(at) and folder.resolve().is_relative_to(point):
            at = point
            kind = rest.split()[0]
    if kind in NETWORK:
        return f"{kind} at {at}"
    return ""


def default_folder() -> Path:
    base = os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share"
    return Path(base) / "pinecart"
