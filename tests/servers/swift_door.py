"""A door to Swift of the tests' own."""

from __future__ import annotations

import contextlib
import hashlib
import socket
import uuid
from collections.abc import Iterator
from urllib.parse import quote

import httpx

from tests.servers import swift
from tests.servers.forwarder import Forwarder
from tests.whole.house import free_port, until

AUTH_URL = f"{swift.ENDPOINT}/auth/v1.0"


class SwiftDoor:
    """Signed in as the tests' user; it brings the server up where it isn't."""

    def __init__(self) -> None:
        swift.up()
        self.http = httpx.Client(timeout=60, verify=False)
        self.url = ""
        self._sign_in()

    def _sign_in(self) -> None:
        told = self._signed_in(swift.KEY, swift.SECRET)
        self.url, self.http.headers["x-auth-token"] = told["x-storage-url"], told["x-auth-token"]

    def _signed_in(self, user: str, key: str) -> httpx.Headers:
        """A busy Swift gives up on its own servers, and is asked again."""
        who = {"x-auth-user": user, "x-auth-key": key}
        ask = lambda: self.http.get(AUTH_URL, headers=who)  # noqa: E731
        told: httpx.Response = until(
            lambda: (answer := ask()).status_code != 503 and answer, what="Swift"
        )
        return told.raise_for_status().headers

    def spec(self, root: str = "", **more: object) -> dict[str, object]:
        who = {"user": swift.KEY, "key": swift.SECRET}
        return {"kind": "swift", "auth_url": AUTH_URL, "root": root} | who | more

    def forget_token(self, user: str, key: str) -> None:
        """Whoever has it is refused from now on."""
        token = self._signed_in(user, key)["x-auth-token"]
        name = hashlib.md5(f"AUTH_/token/{token}".encode(), usedforsecurity=False).hexdigest()
        with socket.create_connection(("127.0.0.1", swift.PORT + 4)) as line:
            line.sendall(f"delete {name}\r\n".encode())
            assert line.recv(100) == b"DELETED\r\n"

    def ask(self, method: str, path: str, query: str = "", **more: object) -> httpx.Response:
        """path: container and name, not encoded. Whoever shares our token may have it forgotten."""
        url = f"{self.url}/{quote(path)}" + (f"?{query}" if query else "")
        answer = self.http.request(method, url, **more)  # type: ignore[arg-type]
        if answer.status_code == 401:
            self._sign_in()
            answer = self.http.request(method, url, **more)  # type: ignore[arg-type]
        return answer

    def container(self) -> str:
        name = f"c{uuid.uuid4().hex[:12]}"
        made = lambda: self.ask("PUT", name).status_code in (201, 202)  # noqa: E731
        until(made, what="a container")  # a busy Swift gives up on its own servers
        return name

    def put(self, path: str, body: bytes, **metadata: str) -> None:
        headers = {f"x-object-meta-{name}": value for name, value in metadata.items()}
        assert self.ask("PUT", path, content=body, headers=headers).status_code == 201

    def names(self, container: str) -> list[str]:
        found, marker = list[str](), ""
        while rows := self.ask("GET", container, f"format=json&marker={quote(marker)}").json():
            found += [row["name"] for row in rows]
            marker = found[-1]
        return found

    def segments(self, container: str) -> list[str]:
        """What lies in the container of its segments."""
        is_there = self.ask("HEAD", f"{container}_segments").status_code < 300
        return self.names(f"{container}_segments") if is_there else []

    def holds(self, container: str) -> dict[str, bytes]:
        names = self.names(container)
        return {name: self.ask("GET", f"{container}/{name}").content for name in names}

    def left(self, container: str) -> set[str]:
        """Segments that nothing is made of."""
        used = set[str]()
        for name in self.names(container):
            told = self.ask("GET", f"{container}/{name}", "multipart-manifest=get")
            if told.headers.get("x-static-large-object"):
                used |= {row["name"].partition("/")[2].partition("/")[2] for row in told.json()}
        return {*self.segments(container)} - used


class SwiftBehindALine(SwiftDoor):
    """`stop` it, and nobody but the tests reaches it."""

    def __init__(self) -> None:
        super().__init__()
        self._line = Forwarder(free_port(), swift.PORT)
        self.start()

    def start(self) -> None:
        self._line.begin()

    def stop(self) -> None:
        self._line.end()

    def cut(self) -> None:
        """From now on nobody is let in, until it is mended."""
        self._line.says = b"HTTP/1.1 401 Unauthorized\r\nContent-Length: 0\r\n\r\n"
        self.stop()
        self.start()

    def mend(self) -> None:
        self._line.says = b""
        self.stop()
        self.start()

    def spec(self, root: str = "", **more: object) -> dict[str, object]:
        at = f"http://127.0.0.1:{self._line.port}"
        where = {"auth_url": f"{at}/auth/v1.0", "storage_url": self.url.replace(swift.ENDPOINT, at)}
        return super().spec(root, **where, **more)


@contextlib.contextmanager
def swift_server() -> Iterator[SwiftDoor]:
    """Ended with whoever has begun it."""
    was_up = swift.answers()
    try:
        yield SwiftDoor()
    finally:
        if not was_up:
            swift.end()
