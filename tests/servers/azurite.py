"""Blob storage on loopback that we did not write: Azurite, and a door to it of the tests' own, by
another way of signing than a key's.
"""

from __future__ import annotations

import base64
import contextlib
import fcntl
import hashlib
import hmac
import os
import subprocess
import tempfile
import uuid
import xml.etree.ElementTree as ET
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import quote

import httpx

from tests.servers.forwarder import Forwarder
from tests.whole.house import free_port, until

PACKAGE = "azurite@3.35.0"
CACHE = Path(os.environ.get("PINECART_SERVERS", Path.home() / ".cache" / "pinecart-tests"))
MAIN = CACHE / "azurite" / "node_modules" / "azurite" / "dist" / "src" / "blob" / "main.js"
ACCOUNT = "larkfell"
KEY = base64.b64encode(b"a made-up key of an account, for tests").decode()


def install() -> None:
    """One at a time: the tests are run by several processes."""
    CACHE.mkdir(parents=True, exist_ok=True)
    with (CACHE / "azurite.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not MAIN.exists():
            ask = ["npm", "install", "--silent", "--no-audit", "--no-fund", "--prefix"]
            subprocess.run([*ask, str(CACHE / "azurite"), PACKAGE], check=True)


class Azurite:
    """One account; `stop` and `start` it at will."""

    def __init__(self, home: Path) -> None:
        self.home, self.key = home, KEY
        self._http = httpx.Client(timeout=30, verify=False)
        self._inner, port = free_port(), free_port()
        self._line = Forwarder(port, self._inner)
        self.endpoint = f"http://127.0.0.1:{port}/{ACCOUNT}"
        self._begin()
        self.start()

    def _begin(self) -> None:
        command = ["node", str(MAIN), "--blobHost", "127.0.0.1", "--blobPort", str(self._inner)]
        command += ["-l", str(self.home), "--silent", "--disableTelemetry"]
        env = os.environ | {"AZURITE_ACCOUNTS": f"{ACCOUNT}:{self.key}"}
        self._process = subprocess.Popen(command, env=env, stdout=subprocess.DEVNULL)
        until(self._answers, what="Azurite to answer")

    def start(self) -> None:
        self._line.begin()

    def stop(self) -> None:
        """Nobody reaches it."""
        self._line.end()

    def cut(self) -> None:
        """It begins anew, with the key that it has now, and with what it held."""
        self.stop()
        self._process.terminate()
        self._process.wait(30)
        self._begin()
        self.start()

    def end(self) -> None:
        self.stop()
        self._http.close()
        self._process.kill()
        self._process.wait()

    def _answers(self) -> bool:
        with contextlib.suppress(httpx.HTTPError):
            return bool(httpx.get(f"http://127.0.0.1:{self._inner}/", timeout=2).status_code)
        return False

    def spec(self, root: str = "", **more: object) -> dict[str, object]:
        own = {"kind": "blob", "endpoint": self.endpoint, "key": self.key, "root": root}
        return own | more

    def container(self) -> str:
        name = f"c{uuid.uuid4().hex[:12]}"
        assert self.ask("PUT", name, "restype=container").status_code == 201
        return name

    def sas(self, rights: str = "rwdlactfx", ends: str = "2099-01-01T00:00:00Z") -> str:
        """A shared access signature of the account."""
        version = "2021-12-02"
        told = [ACCOUNT, rights, "b", "sco", "", ends, "", "", version, "", ""]
        mark = hmac.digest(base64.b64decode(self.key), "\n".join(told).encode(), hashlib.sha256)
        text = quote(base64.b64encode(mark).decode(), safe="")
        return f"sv={version}&ss=b&srt=sco&sp={rights}&se={quote(ends, safe='')}&sig={text}"

    def ask(
        self,
        method: str,
        path: str,
        query: str = "",
        body: bytes = b"",
        headers: dict[str, str] | None = None,
    ) -> httpx.Response:
        """path: container and name, not encoded."""
        inner = f"http://127.0.0.1:{self._inner}/{ACCOUNT}"
        url = f"{inner}/{quote(path)}?{query}&{self.sas()}"
        told = {"x-ms-version": "2021-12-02"} | (headers or {})
        return self._http.request(method, url, headers=told, content=body)

    def put(self, path: str, body: bytes, **metadata: str) -> None:
        headers = {"x-ms-blob-type": "BlockBlob"}
        headers |= {f"x-ms-meta-{name}": value for name, value in metadata.items()}
        assert self.ask("PUT", path, body=body, headers=headers).status_code == 201

    def names(self, container: str, include: str = "") -> list[str]:
        found, marker = list[str](), ""
        while True:
            query = f"restype=container&comp=list&include={include}&marker={quote(marker, safe='')}"
            tree = ET.fromstring(self.ask("GET", container, query).content)
            found += [node.findtext("Name") or "" for node in tree.iter("Blob")]
            if not (marker := tree.findtext("NextMarker") or ""):
                return found

    def left(self, container: str) -> set[str]:
        """What was begun, and is not there yet."""
        return {*self.names(container, "uncommittedblobs")} - {*self.names(container)}

    def holds(self, container: str) -> dict[str, bytes]:
        names = self.names(container)
        return {name: self.ask("GET", f"{container}/{name}").content for name in names}


@contextlib.contextmanager
def azurite() -> Iterator[Azurite]:
    install()
    with tempfile.TemporaryDirectory() as home:
        server = Azurite(Path(home))
        try:
            yield server
        finally:
            server.end()
