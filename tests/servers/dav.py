"""Two WebDAV servers for tests: Apache's, and one in Python with habits and faults by request."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import os
import re
import shutil
import socket
import subprocess
import tempfile
import threading
from collections import Counter
from collections.abc import Iterator
from email.utils import formatdate
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import quote, quote_from_bytes, unquote, unquote_to_bytes, urlsplit

from pinecart.drivers.webdav.signing import Challenge, DavAccount, Digest
from tests.whole.house import free_port, until

USER, PASSWORD, TOKEN = "partner", "larkfell", "made-up-token"
APACHE = "/usr/sbin/apache2"
MODULES = Path("/usr/lib/apache2/modules")
CONFIG = """
ServerRoot {home}
ServerName 127.0.0.1
Listen 127.0.0.1:{port}
PidFile {home}/pid
ErrorLog {home}/log
{user}
DocumentRoot {root}
TypesConfig /dev/null
DavLockDB {home}/lock/db
DavMinTimeout 60
AllowEncodedSlashes NoDecode
LimitXMLRequestBody 0
<Directory {root}>
  Dav On
  Options None
  AllowOverride None
  AuthType Basic
  AuthName dav
  AuthUserFile {home}/users
  Require valid-user
</Directory>
<Directory {root}/digest>
  AuthType Digest
  AuthName dav
  AuthUserFile {home}/digests
  AuthDigestNonceLifetime 2
</Directory>
<Directory {root}/reads>
  <LimitExcept GET PROPFIND>
    Require all denied
  </LimitExcept>
</Directory>
<Directory {root}/writes>
  <LimitExcept GET PROPFIND PUT MOVE MKCOL DELETE>
    Require all denied
  </LimitExcept>
</Directory>
"""
LOADED = (
    "mpm_event authn_core authn_file authz_core authz_user auth_basic auth_digest dav dav_fs "
    "dav_lock mime"
)


class Apache:
    """root: what it serves, which its own user may write to."""

    def __init__(self, home: Path) -> None:
        self.home, self.root, self.port = home, home / "www", free_port()
        for path in (home, self.root, home / "lock", self.root / "digest"):
            path.mkdir(exist_ok=True)
            path.chmod(0o777)
        md5 = hashlib.md5(f"{USER}:dav:{PASSWORD}".encode(), usedforsecurity=False).hexdigest()
        (home / "digests").write_text(f"{USER}:dav:{md5}\n")
        subprocess.run(
            ["htpasswd", "-bc", home / "users", USER, PASSWORD], check=True, capture_output=True
        )
        loaded = [f"LoadModule {m}_module {MODULES}/mod_{m}.so" for m in LOADED.split()]
        user = "User www-data\nGroup www-data" if os.geteuid() == 0 else ""
        told = CONFIG.format(home=home, root=self.root, port=self.port, user=user)
        (home / "conf").write_text("\n".join(loaded) + told)

    def start(self) -> None:
        subprocess.run([APACHE, "-f", self.home / "conf", "-k", "start"], check=True)
        until(lambda: answers(self.port), 60, "the WebDAV server")

    def stop(self) -> None:
        pid = int((self.home / "pid").read_text())
        subprocess.run([APACHE, "-f", self.home / "conf", "-k", "stop"], check=True)
        until(lambda: not Path(f"/proc/{pid}").exists(), 60, "the WebDAV server's end")

    def folder(self, name: str) -> Path:
        root = self.root / name
        root.mkdir(parents=True)
        root.chmod(0o777)
        return root

    def spec(self, root: Path | str = "", **more: object) -> dict[str, object]:
        below = Path(root).relative_to(self.root) if root else ""
        url = f"http://127.0.0.1:{self.port}/{below}"
        return {"kind": "webdav", "url": url, "user": USER, "password": PASSWORD} | more


def answers(port: int) -> bool:
    with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
        return True
    return False


@contextlib.contextmanager
def apache() -> Iterator[Apache]:
    """Below the temporary folder itself: its own user must get there."""
    home = Path(tempfile.mkdtemp(prefix="pinecart-dav-"))
    server = Apache(home)
    server.start()
    try:
        yield server
    finally:
        with contextlib.suppress(subprocess.CalledProcessError, FileNotFoundError):
            server.stop()
        shutil.rmtree(home, ignore_errors=True)


class PythonDav:
    """habits: "no-etags", "etags-in-lists", "etags-in-answers", "takes-addresses-apart", "weak",
    "etags-of-names", "no-conditions", "no-ifs" (it refuses them all), "overwrites", "no-ranges",
    "other-hrefs", "deep", "redirects", "digest", "token", "errors-inside", "moves-by-copying",
    "loose" (with what it needn't tell), "breaks" (at an `If` that isn't met, and at parts that
    begin or end at an edge).

    cuts: method → so many requests until the line is cut before it is carried out; `lost`: after.
    short: so many answers end before their length.   lies: hrefs that it lists besides.
    """

    def __init__(self, root: Path, *habits: str) -> None:
        self.root, self.habits, self.port = root, frozenset(habits), free_port()
        self.cuts, self.lost, self.asked = Counter[str](), Counter[str](), Counter[str]()
        self.short, self.nonce, self.lies = 0, 1, list[str]()
        self.password = PASSWORD
        self.refuses: dict[str, int] = {}  # method → status
        self.seen: list[str] = []  # Authorization headers
        self.lock = threading.Lock()

    def spec(self, **more: object) -> dict[str, object]:
        who = {"token": TOKEN} if "token" in self.habits else {"user": USER, "password": PASSWORD}
        return {"kind": "webdav", "url": f"http://127.0.0.1:{self.port}/dav", **who} | more

    def __enter__(self) -> PythonDav:
        handler = type("Handler", (_Handler,), {"dav": self})
        self.server = ThreadingHTTPServer(("127.0.0.1", self.port), handler)
        self.server.daemon_threads = True
        threading.Thread(target=self.server.serve_forever, args=(0.05,), daemon=True).start()
        return self

    def __exit__(self, *_: object) -> None:
        self.server.shutdown()
        self.server.server_close()

    def cut(self) -> None:
        """Each request brings its password: there is no line to be cut."""

    def due(self, counts: Counter[str], method: str) -> bool:
        with self.lock:
            if method not in counts:
                return False
            counts[method] -= 1
            return counts[method] == 0 and counts.pop(method) == 0


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    dav: PythonDav

    def log_message(self, *_: object) -> None: ...

    def handle_one_request(self) -> None:
        self.close_connection = True
        with contextlib.suppress(OSError):
            super().handle_one_request()

    def __getattr__(self, name: str) -> object:
        if name.startswith("do_"):
            return self._carried_out
        raise AttributeError(name)

    def _carried_out(self) -> None:
        dav, method = self.dav, self.command
        length = int(self.headers.get("Content-Length") or 0)
        dav.asked[method] += 1
        if dav.due(dav.cuts, method):
            if method == "PUT" and self._is_let_in():
                self.path_of(self.path).write_bytes(self.rfile.read(length // 2))
            return self._cut()
        body = self.rfile.read(length)
        dav.seen.append(self.headers.get("Authorization", ""))
        if not self._is_let_in():
            return self._say(401, **{"WWW-Authenticate": self._challenge()})
        if method in dav.refuses:
            return self._say(dav.refuses[method], b"No, and here is at length why not. " * 9)
        self._loses = dav.due(dav.lost, method)
        with dav.lock:
            getattr(self, f"_{method.lower()}")(self.path_of(self.path), body)
        return None

    def _cut(self) -> None:
        self.close_connection = True
        self.connection.shutdown(socket.SHUT_RDWR)

    def _say(self, status: int, body: bytes = b"", **headers: str) -> None:
        if getattr(self, "_loses", False):
            return self._cut()
        if status == 412 and "If" in self.headers and "breaks" in self.dav.habits:
            status = 500
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        if self.dav.short and len(body) > 1 and status < 300:
            self.dav.short -= 1
            self.wfile.write(body[: len(body) // 2])
            return self._cut()
        self.wfile.write(body)
        return None

    # --- who is let in

    def _challenge(self) -> str:
        if "token" in self.dav.habits:
            return "Bearer"
        if "digest" not in self.dav.habits:
            return 'Negotiate, Basic realm="dav, or so", charset="UTF-8"'
        stale = ", stale=true" if self.headers.get("Authorization") else ""
        return (
            f'Basic realm="dav", Digest realm="dav", qop="auth,auth-int", nonce="{self.dav.nonce}",'
            f" algorithm=SHA-256{stale}"
        )

    def _is_let_in(self) -> bool:
        told = self.headers.get("Authorization", "")
        if "token" in self.dav.habits:
            return told == f"Bearer {TOKEN}"
        if "digest" not in self.dav.habits:
            both = f"{USER}:{self.dav.password}".encode()
            return told == f"Basic {base64.b64encode(both).decode()}"
        named = dict(re.findall(r'(\w+)="?([^",]*)"?', told))
        if named.get("nonce") != str(self.dav.nonce):
            return False
        asked = {"realm": "dav", "nonce": named["nonce"], "qop": "auth", "algorithm": "SHA-256"}
        digest = Digest(Challenge("digest", asked), DavAccount(USER, PASSWORD))
        digest._count = int(named["nc"], 16) - 1
        return digest.answer(self.command, self.path, named["cnonce"]).count(named["response"]) == 1

    # --- what lies there

    def path_of(self, target: str) -> Path:
        path = unquote_to_bytes(urlsplit(target).path).removeprefix(b"/dav").strip(b"/")
        return self.dav.root / os.fsdecode(path)

    def _etag(self, path: Path) -> str:
        habits, found = self.dav.habits, path.stat()
        if "no-etags" in habits or path.is_dir():
            return ""
        told = f"{found.st_size:x}-{found.st_mtime_ns:x}"
        if "etags-of-names" in habits:
            told = hashlib.sha256(bytes(path)).hexdigest()[:8] + told
        return f'W/"{told}"' if "weak" in habits else f'"{told}"'

    def _holds(self, path: Path) -> bool:
        """Its conditions; of `If`, those with a tagged address and an ETag."""
        if "no-conditions" in self.dav.habits:
            return True
        there = self._etag(path) if path.exists() else None
        if self.headers.get("If-None-Match") == "*" and there is not None:
            return False
        match = self.headers.get("If-Match")
        if match and match != there:
            return False
        if "no-ifs" in self.dav.habits and "If" in self.headers:
            return False
        told = re.fullmatch(r'<([^>]+)> \(\[("[^"]*")\]\)', self.headers.get("If", ""))
        if not told:
            return "If" not in self.headers
        tagged = self.path_of(told[1])
        return tagged.exists() and self._etag(tagged) == told[2]

    def _propfind(self, path: Path, _: bytes) -> None:
        if not path.exists():
            return self._say(404)
        if "redirects" in self.dav.habits and path.is_dir() and not self.path.endswith("/"):
            return self._say(301, Location=self.path + "/")
        found = [path]
        if self.headers["Depth"] == "1" and path.is_dir():
            found += path.rglob("*") if "deep" in self.dav.habits else path.iterdir()
        listed = "".join(self._told(p) for p in found)
        if self.headers["Depth"] == "1":
            listed += "".join(
                _response(href, "<D:getcontentlength>1</D:getcontentlength>")
                for href in self.dav.lies
            )
        xml = f'<?xml version="1.0"?><D:multistatus xmlns:D="DAV:">{listed}</D:multistatus>'
        return self._say(207, xml.encode())

    def _told(self, path: Path) -> str:
        found = path.stat()
        if path.is_dir():
            props = "<D:resourcetype><D:collection/></D:resourcetype>"
            props += "<D:quota-available-bytes>5000000</D:quota-available-bytes>"
        else:
            etag = self._etag(path)
            props = f"<D:resourcetype/><D:getcontentlength>{found.st_size}</D:getcontentlength>"
            props += f"<D:getlastmodified>{_date(found)}</D:getlastmodified>"
            is_told = etag and "etags-in-answers" not in self.dav.habits
            props += f"<D:getetag>{etag}</D:getetag>" if is_told else ""
        inner = os.fsencode(path.relative_to(self.dav.root))
        safe = "/?#" if "loose" in self.dav.habits else "/"
        name = quote_from_bytes(b"" if inner == b"." else inner, safe)
        slash = "/" if path.is_dir() and name else ""
        if "other-hrefs" in self.dav.habits:
            return _response(f"http://inner.example:8080/gate/dav/{name}{slash}", props)
        return _response(f"/dav/{name}{slash}", props)

    def _get(self, path: Path, _: bytes) -> None:
        if not path.is_file():
            return self._say(404)
        if not self._holds(path):
            return self._say(412)
        body, told = path.read_bytes(), {"Last-Modified": _date(path.stat())}
        etag = "" if "etags-in-lists" in self.dav.habits else self._etag(path)
        if etag:
            told["ETag"] = etag
        asked = re.fullmatch(r"bytes=(\d+)-(\d+)", self.headers.get("Range", ""))
        if not asked or "no-ranges" in self.dav.habits:
            return self._say(200, body, **told)
        if "breaks" in self.dav.habits and asked[2] == "0":
            return self._say(200, body, **told)
        if "breaks" in self.dav.habits and int(asked[2]) >= len(body):
            return self._say(416)
        first, last = int(asked[1]), min(int(asked[2]), len(body) - 1)
        whole = "*" if "loose" in self.dav.habits else len(body)
        told["Content-Range"] = f"bytes {first}-{last}/{whole}"
        return self._say(206, body[first : last + 1], **told)

    def _put(self, path: Path, body: bytes) -> None:
        if not path.parent.is_dir():
            return self._say(409)
        if not self._holds(path):
            return self._say(412)
        path.write_bytes(body)
        return self._say(201)

    def _delete(self, path: Path, _: bytes) -> None:
        if not path.exists():
            return self._say(404)
        if not self._holds(path):
            return self._say(412)
        if "errors-inside" in self.dav.habits:
            told = "<D:status>HTTP/1.1 423 Locked</D:status>"
            inner = f"<D:response><D:href>{self.path}</D:href>{told}</D:response>"
            return self._say(207, f'<D:multistatus xmlns:D="DAV:">{inner}</D:multistatus>'.encode())
        shutil.rmtree(path) if path.is_dir() else path.unlink()
        return self._say(204)

    def _move(self, path: Path, _: bytes) -> None:
        self._to(path, shutil.move)

    def _copy(self, path: Path, _: bytes) -> None:
        self._to(path, shutil.copyfile)

    def _to(self, path: Path, carry: object) -> None:
        told = self.headers["Destination"]
        if "takes-addresses-apart" in self.dav.habits:
            told = quote(urlsplit(unquote(told)).path)
        there = self.path_of(told)
        if not path.exists():
            return self._say(404)
        keeps = self.headers.get("Overwrite") == "F" and "overwrites" not in self.dav.habits
        if not self._holds(path) or (there.exists() and keeps):
            return self._say(412)
        if there.is_dir():
            shutil.rmtree(there)
        carry(path, there)  # type: ignore[operator]
        if "moves-by-copying" in self.dav.habits and there.parent != path.parent:
            os.utime(there)
        return self._say(201)

    def _mkcol(self, path: Path, _: bytes) -> None:
        if path.exists():
            return self._say(405)
        if not path.parent.is_dir():
            return self._say(409)
        path.mkdir()
        return self._say(201)


def _response(href: str, props: str) -> str:
    status = "<D:status>HTTP/1.1 200 OK</D:status>"
    inner = f"<D:propstat><D:prop>{props}</D:prop>{status}</D:propstat>"
    return f"<D:response><D:href>{href}</D:href>{inner}</D:response>"


def _date(found: os.stat_result) -> str:
    return formatdate(found.st_mtime, usegmt=True)
