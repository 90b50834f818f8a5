"""A small distributed file system for tests and tries: a name node and a data node at two
addresses, over a folder of this machine, with faults by request (WebHDFS REST API of Apache Hadoop
3).

It knows no accounts: a user name is believed, a token is compared. Of blocks it knows only that a
checksum is made of theirs.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import shutil
import socket
import threading
import zlib
from collections import Counter
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, unquote_to_bytes, urlsplit

_STATUS = {
    "FileNotFoundException": 404,
    "AccessControlException": 403,
    "FileAlreadyExistsException": 403,
    "PathIsNotEmptyDirectoryException": 403,
    "SafeModeException": 403,
    "StandbyException": 403,
    "SecurityException": 401,
    "UnsupportedOperationException": 400,
}
AT_ONCE = 1000  # names of a listing in parts


class FileSystem:
    """ports: of the name node and the data node; 0: any.   cuts: op → so many requests until the
    line is cut before it is carried out; `lost`: after.   refuses: op → the exception that it
    answers.   short: so many answers of the data node end before their length.   lies: so many
    have a byte too few.   elsewhere: a host that the name node sends to instead.   block: bytes.
    gateway: one address is all there is: it has the bytes itself, and sends a write on to itself
    (HDFS over HTTP, of the same project).
    """

    def __init__(
        self,
        root: Path,
        *,
        token: str = "",
        batches: bool = True,
        gateway: bool = False,
        block: int = 1 << 27,
        ports: tuple[int, int] = (0, 0),
    ) -> None:
        self.root = root
        self.token = token
        self.batches = batches
        self.gateway = gateway
        self.block = block
        self.cuts = Counter[str]()
        self.lost = Counter[str]()
        self.asked = Counter[str]()
        self.refuses: dict[str, str] = {}
        self.short = 0
        self.lies = 0
        self.elsewhere = ""
        self.lock = threading.Lock()
        self.lines: set[socket.socket] = set()
        self._nodes: list[ThreadingHTTPServer] = []
        self._ports = list(ports)

    def start(self) -> None:
        """At the same ports as before."""
        for number, kind in enumerate((_NameNode, _DataNode)):
            handler = type(kind.__name__, (kind,), {"system": self})
            node = ThreadingHTTPServer(("127.0.0.1", self._ports[number]), handler)
            node.daemon_threads = True
            self._ports[number] = int(node.server_address[1])
            threading.Thread(target=node.serve_forever, args=(0.05,), daemon=True).start()
            self._nodes.append(node)

    def stop(self) -> None:
        """And cut all lines."""
        for node in self._nodes:
            node.shutdown()
            node.server_close()
        self._nodes.clear()
        self.cut()

    def cut(self) -> None:
        for line in list(self.lines):
            with contextlib.suppress(OSError):
                line.shutdown(socket.SHUT_RDWR)

    def __enter__(self) -> FileSystem:
        self.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.stop()

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self._ports[0]}"

    @property
    def data_node(self) -> str:
        return f"http://{self.elsewhere or '127.0.0.1'}:{self._ports[1]}"

    def due(self, counts: Counter[str], op: str) -> bool:
        """Whether the fault is due at this request of its kind: it was asked for so many requests
        ahead, and happens once.
        """
        with self.lock:
            if op not in counts:
                return False
            counts[op] -= 1
            return counts[op] == 0 and counts.pop(op) == 0


class _Node(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    system: FileSystem
    query: dict[str, str]
    loses = False

    def log_message(self, *_: object) -> None:
        """It keeps none."""

    def setup(self) -> None:
        super().setup()
        self.system.lines.add(self.connection)

    def finish(self) -> None:
        self.system.lines.discard(self.connection)
        with contextlib.suppress(OSError):
            super().finish()

    def handle_one_request(self) -> None:
        self.close_connection = True
        with contextlib.suppress(OSError):
            super().handle_one_request()

    def __getattr__(self, name: str) -> Any:
        if name.startswith("do_"):
            return self._carried_out
        raise AttributeError(name)

    def _carried_out(self) -> None:
        system = self.system
        told = urlsplit(self.path)
        asked = parse_qs(told.query, keep_blank_values=True)
        self.query = {name: values[0] for name, values in asked.items()}
        op = self.query.get("op", "")
        length = self.headers.get("Content-Length") or 0
        body = self.rfile.read(int(length))
        node = type(self).__name__
        where = f"{node.lower()} {op}"
        system.asked[where] += 1
        if system.due(system.cuts, where):
            return self.cut()
        self.loses = system.due(system.lost, where)
        token = self.query.get("delegation")
        if system.token and token != system.token:
            return self.refuse("SecurityException")
        if op in system.refuses:
            return self.refuse(system.refuses[op])
        with system.lock:
            place = self.place(told.path)
            return self.carry_out(op, place, body)

    def place(self, told: str) -> Path:
        path = unquote_to_bytes(told).removeprefix(b"/webhdfs/v1").strip(b"/")
        return self.system.root / os.fsdecode(path)

    def carry_out(self, op: str, path: Path, body: bytes) -> None:
        raise NotImplementedError

    def carry_bytes(self, op: str, path: Path, body: bytes) -> None:
        if op == "CREATE":
            if path.exists():
                return self.refuse("FileAlreadyExistsException")
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(body)
            return self.answer(201)
        if not path.is_file():
            return self.refuse("FileNotFoundException")
        if op == "GETFILECHECKSUM":
            return self.tell({"FileChecksum": _sum(path.read_bytes(), self.system.block)})
        start = int(self.query.get("offset", 0))
        with path.open("rb") as file:
            file.seek(start)
            found = file.read(int(self.query.get("length", -1)))
        if self.system.lies:
            self.system.lies -= 1
            found = found[:-1]
        return self.answer(200, found)

    def cut(self) -> None:
        self.close_connection = True
        self.connection.shutdown(socket.SHUT_RDWR)

    def refuse(self, name: str) -> None:
        told = {"RemoteException": {"exception": name, "javaClassName": "", "message": "made up"}}
        self.answer(_STATUS.get(name, 403), json.dumps(told).encode())

    def answer(self, status: int, body: bytes = b"", **headers: str) -> None:
        if self.loses:
            return self.cut()
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        if self.system.short and status == 200 and isinstance(self, _DataNode) and len(body) > 1:
            self.system.short -= 1
            self.wfile.write(body[: len(body) // 2])
            return self.cut()
        self.wfile.write(body)
        return None

    def tell(self, told: object) -> None:
        self.answer(200, json.dumps(told).encode())


class _NameNode(_Node):
    def carry_out(self, op: str, path: Path, body: bytes) -> None:
        system = self.system
        has_bytes = op in {"OPEN", "GETFILECHECKSUM"} or self.query.get("data") == "true"
        if system.gateway and has_bytes:
            is_typed = self.headers.get("Content-Type") == "application/octet-stream"
            if op == "CREATE" and not is_typed:
                return self.refuse("UnsupportedOperationException")
            return self.carry_bytes(op, path, body)
        if op == "LISTSTATUS_BATCH" and not system.batches:
            return self.refuse("UnsupportedOperationException")
        does: Callable[[Path], None] | None = getattr(self, f"_{op.lower()}", None)
        if does is None:
            return self.refuse("UnsupportedOperationException")
        needs = op not in {"CREATE", "MKDIRS", "RENAME", "DELETE"}
        if needs and not os.path.lexists(path):
            return self.refuse("FileNotFoundException")
        return does(path)

    def _getfilestatus(self, path: Path) -> None:
        self.tell({"FileStatus": _status(path, "")})

    def _liststatus(self, path: Path) -> None:
        self.tell({"FileStatuses": {"FileStatus": list(_statuses(path))}})

    def _liststatus_batch(self, path: Path) -> None:
        told = self.query.get("startAfter", "")
        after = told.encode("utf-8", "surrogateescape")
        rows = []
        for row in _statuses(path):
            name = os.fsencode(row["pathSuffix"])
            if not after or name > after:
                rows.append(row)
        listed = {"FileStatuses": {"FileStatus": rows[:AT_ONCE]}}
        left = max(len(rows) - AT_ONCE, 0)
        listing = {"partialListing": listed, "remainingEntries": left}
        self.tell({"DirectoryListing": listing})

    def _open(self, path: Path) -> None:
        if path.is_dir():
            return self.refuse("FileNotFoundException")
        return self._send_on()

    _getfilechecksum = _open

    def _create(self, path: Path) -> None:
        if os.path.lexists(path):
            return self.refuse("FileAlreadyExistsException")
        return self._send_on()

    def _send_on(self) -> None:
        """Data go to the data node, whose address is another; a gateway stands for both and sends
        to itself.
        """
        there = f"{self.system.data_node}{self.path}"
        if self.system.gateway:
            there = f"{self.system.url}{self.path}&data=true"
        self.answer(307, Location=there)

    def _mkdirs(self, path: Path) -> None:
        path.mkdir(parents=True, exist_ok=True)
        self.tell({"boolean": True})

    def _rename(self, path: Path) -> None:
        """False, with a good status, where it can't be done: the protocol has no error for that."""
        destination = self.query["destination"]
        there = self.system.root / destination.strip("/")
        is_free = not os.path.lexists(there) and there.parent.is_dir()
        able = is_free and path.exists()
        if able:
            path.rename(there)
        self.tell({"boolean": able})

    def _delete(self, path: Path) -> None:
        """False where nothing was there. A folder with something in it goes only where that was
        asked for.
        """
        is_folder = path.is_dir()
        takes_all = self.query.get("recursive") == "true"
        if is_folder and not takes_all and any(path.iterdir()):
            return self.refuse("PathIsNotEmptyDirectoryException")
        there = os.path.lexists(path)
        if is_folder:
            shutil.rmtree(path)
        elif there:
            path.unlink()
        return self.tell({"boolean": there})

    def _settimes(self, path: Path) -> None:
        ns = int(self.query["modificationtime"]) * 1_000_000
        os.utime(path, ns=(ns, ns))
        self.answer(200)

    def _setpermission(self, path: Path) -> None:
        path.chmod(int(self.query["permission"], 8))
        self.answer(200)


class _DataNode(_Node):
    def carry_out(self, op: str, path: Path, body: bytes) -> None:
        self.carry_bytes(op, path, body)


def _crcs(block: bytes) -> bytes:
    """The checksum of each 512 bytes, one after the other, as a data node keeps them."""
    found = b""
    for at in range(0, len(block), 512):
        crc = zlib.crc32(block[at : at + 512])
        found += crc.to_bytes(4, "big")
    return found


def _sum(content: bytes, block: int) -> dict[str, Any]:
    """The MD5 of the MD5s of each block's CRCs, of 512 bytes each (MD5MD5CRC32FileChecksum)."""
    of_blocks = b""
    for at in range(0, len(content), block):
        of_blocks += _md5(_crcs(content[at : at + block]))
    in_a_block = block // 512 if len(content) > block else 0
    numbers = (512).to_bytes(4, "big") + in_a_block.to_bytes(8, "big")
    told = numbers + _md5(of_blocks)
    made = f"MD5-of-{in_a_block}MD5-of-512CRC32"
    return {"algorithm": made, "bytes": told.hex(), "length": len(told)}


def _md5(of: bytes) -> bytes:
    return hashlib.md5(of, usedforsecurity=False).digest()


def _statuses(path: Path) -> Iterator[dict[str, Any]]:
    """A row for each name of a folder, in the order of bytes; of a file one row, whose name is
    empty.
    """
    if not path.is_dir():
        yield _status(path, "")
        return
    for name in sorted(os.listdir(os.fsencode(path))):
        text = os.fsdecode(name)
        yield _status(path / text, text)


def _status(path: Path, name: str) -> dict[str, Any]:
    found = path.lstat()
    kind = "DIRECTORY" if path.is_dir() else "FILE"
    return {
        "pathSuffix": name,
        "type": "SYMLINK" if path.is_symlink() else kind,
        "length": 0 if path.is_dir() else found.st_size,
        "modificationTime": found.st_mtime_ns // 1_000_000,
        "accessTime": 0,
        "permission": f"{found.st_mode & 0o777:o}",
        "owner": "larkfell",
        "group": "larkfell",
        "blockSize": 134_217_728,
        "replication": 3,
    }
