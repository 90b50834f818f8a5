"""Requests to one name node, and to the data nodes that it names."""

from __future__ import annotations

from collections.abc import Mapping
from fnmatch import fnmatchcase
from typing import Any
from urllib.parse import urlsplit

from pinecart.core.errors import Refused, StoreError
from pinecart.core.places import show
from pinecart.drivers.http_message import HttpAnswer, Pieces
from pinecart.drivers.transport import Transport, transport_from
from pinecart.drivers.webhdfs.wire import error_from, json_of, target

SENT_ON = (307, 302)
SPARE = 1 << 16  # bytes of an answer, where fewer were asked for: a refusal in words


class HdfsClient:
    """url: of the name node.   data_hosts: names, with `*` for any part, of the hosts where data
    nodes may be; the name node's own is one of them.
    """

    def __init__(self, spec: Mapping[str, Any]) -> None:
        self.name = spec["name"]
        self._spec = spec
        self.who = who_of(spec)
        parts = urlsplit(spec["url"])
        self._scheme = parts.scheme
        self._host = (parts.hostname or "").lower()
        self.name_node = transport_from(f"{parts.scheme}://{parts.netloc}", spec)
        below = str(spec.get("root") or "").strip("/")
        self.root = f"/{below}".encode("utf-8", "surrogateescape").rstrip(b"/")
        told = str(spec.get("data_hosts") or "").lower()
        hosts = told.replace(",", " ").split()
        self._data_hosts = (self._host, *hosts)
        self._data_nodes: dict[str, Transport] = {}

    @property
    def sent(self) -> int:
        return sum(node.sent for node in self._nodes)

    def waits_for(self) -> str:
        """In words; empty: all of them answer."""
        told = (node.waits_for(self.name) for node in self._nodes)
        return next(filter(None, told), "")

    @property
    def _nodes(self) -> list[Transport]:
        return [self.name_node, *self._data_nodes.values()]

    async def close(self) -> None:
        for node in self._nodes:
            await node.close()

    def named(self, path: bytes) -> str:
        return f"pine://{self.name}/{show(path)}"

    def target(self, path: bytes, op: str, **more: Any) -> str:
        return target(self.root, path, op, self.who, **more)

    # --- the name node

    async def ask(self, method: str, path: bytes, op: str, **more: Any) -> HttpAnswer:
        return await self.name_node.ask(method, self.target(path, op, **more), {})

    async def told(self, method: str, path: bytes, op: str, **more: Any) -> dict[str, Any]:
        """What it answers, as JSON. Raises StoreError."""
        answer = await self.ask(method, path, op, **more)
        self.must_be_good(answer, path, op)
        if not answer.body:
            return {}
        return json_of(bytes(answer.body))

    def must_be_good(self, answer: HttpAnswer, path: bytes, op: str) -> None:
        if not 200 <= answer.status < 300:
            raise self._error(answer.status, answer.headers, bytes(answer.body), path, op)

    def _error(
        self, status: int, headers: Mapping[str, str], body: bytes, path: bytes, op: str
    ) -> StoreError:
        """What a status means for this path and operation. One that asks to go slower is heard by
        all who use the store.
        """
        if status in (429, 503):
            asked = headers.get("Retry-After", "")
            self.name_node.slow_down(asked)
        what = f"{op} of {self.named(path)}"
        return error_from(status, headers, body, what=what)

    # --- data nodes

    def _data_node(self, location: str, path: bytes, op: str) -> tuple[Transport, str]:
        """Raises Refused for one that the store doesn't allow: the bytes would go elsewhere."""
        parts = urlsplit(location)
        host = (parts.hostname or "").lower()
        is_allowed = any(fnmatchcase(host, pattern) for pattern in self._data_hosts)
        is_as_safe = parts.scheme in {self._scheme, "https"}
        if not (host and is_allowed and is_as_safe):
            where = f"{parts.scheme}://{host}"[:200]
            message = (
                f"{op} of {self.named(path)}: the name node sends us on to {where}, which is none "
                "of the hosts of this store's data nodes, or no https where it has that itself. "
                "Nothing was sent. If it is meant, name it there."
            )
            raise Refused(message, code="store.address-left")
        where = parts.netloc.rpartition("@")[2]
        origin = f"{parts.scheme}://{where}"
        if origin not in self._data_nodes:
            self._data_nodes[origin] = transport_from(origin, self._spec)
        target = f"{parts.path}?{parts.query}"
        return self._data_nodes[origin], target

    async def from_data(
        self, path: bytes, start: int, size: int, into: bytearray | None = None
    ) -> HttpAnswer:
        """size: bytes that are asked for; a refusal may be longer. A gateway in front of such a
        system has them itself.
        """
        most = max(size, SPARE)
        wanted = self.target(path, "OPEN", offset=start, length=size)
        answer = await self.name_node.ask("GET", wanted, {}, most=most, into=into)
        if answer.status in SENT_ON:
            location = answer.headers.get("Location", "")
            node, asked = self._data_node(location, path, "OPEN")
            answer = await node.ask("GET", asked, {}, most=most, into=into)
        self.must_be_good(answer, path, "OPEN")
        return answer

    async def sum_told(self, path: bytes) -> dict[str, Any]:
        """A file's checksum: a data node makes it, and some name nodes ask that one themselves."""
        op = "GETFILECHECKSUM"
        answer = await self.ask("GET", path, op)
        if answer.status in SENT_ON:
            location = answer.headers.get("Location", "")
            node, asked = self._data_node(location, path, op)
            answer = await node.ask("GET", asked, {})
        self.must_be_good(answer, path, op)
        body = bytes(answer.body)
        return json_of(body)

    async def to_data(self, path: bytes, body: bytes | Pieces) -> None:
        """The two steps of a write. Raises StoreError."""
        first = await self.ask("PUT", path, "CREATE", overwrite="false")
        if first.status not in SENT_ON:
            self.must_be_good(first, path, "CREATE")
            message = f"CREATE of {self.named(path)}: the name node names no data node."
            raise Refused(message, code="store.unsupported")
        location = first.headers.get("Location", "")
        node, asked = self._data_node(location, path, "CREATE")
        headers = {"content-type": "application/octet-stream"}
        if not len(body):
            headers["content-length"] = "0"
        answer = await node.ask("PUT", asked, headers, body or None)
        self.must_be_good(answer, path, "CREATE")


def who_of(spec: Mapping[str, Any]) -> dict[str, str]:
    """How a request says who asks: by a token where there is one, else by a name, which the
    protocol takes on trust.
    """
    if spec.get("token"):
        return {"delegation": spec["token"]}
    if spec.get("user"):
        return {"user.name": spec["user"]}
    return {}
