"""What every request passes before Django sees it: its host, how many there are, who sends a body,
how large, and how slowly.

A body is small, or comes from somebody who may upload: nothing else is waited for, and nothing of
it kept.
"""

from __future__ import annotations

import asyncio
import ipaddress
import json
import re
from collections import Counter
from collections.abc import Awaitable, Callable, Iterator, MutableMapping
from contextlib import contextmanager
from hashlib import sha256
from io import BytesIO
from typing import Any, NamedTuple, Protocol

from asgiref.sync import sync_to_async
from django.core.handlers.asgi import ASGIRequest

from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import PROBLEM, problem_body
from pinecart.service.config.settings import MOST_BODY

Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]

BODY_WITHIN_S = 30.0
SILENT_S = 60.0  # of an upload
MOST_AT_ONCE, MOST_OF_ONE = 400, 64  # requests and streams under way
UPLOAD = re.compile(r"/api/v1/stores/[^/]+/files")


class Turned(Exception):
    """A request that goes no further."""

    def __init__(self, status: int, code: str, detail: str, **facts: str) -> None:
        """status: of HTTP.   code and facts: for programs.   detail: for people, with what to
        do.
        """
        super().__init__(detail)
        self.status = status
        self.code = code
        self.detail = detail
        self.facts = facts


class Sender(Protocol):
    name: str
    may_operate: bool


class Gate(NamedTuple):
    """known_as: names under which this service may be asked, beside addresses and `localhost`.
    who: by a request's headers.

    under_way: requests being answered, by what they show of who asks.   bodies: being waited for,
    by address.
    """

    app: Callable[..., Awaitable[None]]
    known_as: tuple[str, ...]
    who: Callable[[ASGIRequest], Sender | None]
    under_way: Counter[str]
    bodies: Counter[str]

    async def __call__(self, scope: JsonObject, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            return await self.app(scope, receive, send)
        headers = {k.decode("latin-1"): v.decode("latin-1") for k, v in scope["headers"]}
        address = str((scope.get("client") or ("",))[0])
        try:
            if not is_ours(headers.get("host", ""), self.known_as):
                detail = (
                    "This service is not known by that name. Start it with: pinecart serve "
                    "--known-as NAME"
                )
                raise Turned(400, "host.unknown", detail)
            if scope["method"] == "POST" and UPLOAD.fullmatch(scope["path"]):
                await self._must_upload(scope)
                fed: Receive = _patient(receive)
            elif headers.get("content-length", "0") != "0" or "transfer-encoding" in headers:
                with _counted(self.bodies, address):
                    fed = _again(await _whole(receive, headers.get("content-length", "")), receive)
            else:
                fed = receive
            with _counted(self.under_way, _shown(headers) or address):
                await self.app(scope, fed, send)
        except Turned as turned:
            await _answer(send, turned)

    async def _must_upload(self, scope: JsonObject) -> None:
        """Raises Turned for whoever may not, before the first byte is taken."""
        found = await sync_to_async(self.who)(ASGIRequest(scope, BytesIO()))
        if found is None:
            raise Turned(401, "sign-in.missing", "Sign in before you upload: pinecart login URL.")
        if not found.may_operate:
            raise Turned(
                403,
                "right.missing",
                f"{found.name} may not upload: it needs the right 'operate'.",
                right="operate",
            )


@contextmanager
def _counted(under_way: Counter[str], asker: str) -> Iterator[None]:
    """Raises Turned for one too many, of one asker or in all."""
    if under_way[asker] >= MOST_OF_ONE:
        detail = f"You have {MOST_OF_ONE} requests and streams under way. End some, and ask again."
        raise Turned(429, "requests.too-many", detail)
    if under_way.total() >= MOST_AT_ONCE:
        raise Turned(
            503,
            "service.busy",
            "Too much is asked of the service at this moment. Ask again in a second.",
        )
    under_way[asker] += 1
    try:
        yield
    finally:
        under_way[asker] -= 1
        if not under_way[asker]:
            del under_way[asker]


def _shown(headers: dict[str, str]) -> str:
    """By what requests are counted before anybody knows whose they are: the token or cookie that
    they show.
    """
    shown = headers.get("authorization") or headers.get("cookie")
    if not shown:
        return ""
    digest = sha256(shown.encode())
    return digest.hexdigest()


def is_ours(host: str, known_as: tuple[str, ...]) -> bool:
    """By an address or a name that it was told.

    Another name may be a trap: of a page whose own name leads here.
    """
    name = host.rpartition(":")[0] if re.search(r":\d*$", host) else host
    name = name.removeprefix("[").removesuffix("]").lower().rstrip(".")
    if name in ("localhost", *(k.lower() for k in known_as)):
        return True
    try:
        ipaddress.ip_address(name)
    except ValueError:
        return False
    return True


async def _whole(receive: Receive, length: str) -> bytes:
    too_large = Turned(
        413, "body.too-large", f"A call takes {MOST_BODY} bytes at most; files are uploaded."
    )
    if length and (not length.isdecimal() or int(length) > MOST_BODY):
        raise too_large
    body = bytearray()
    more = True
    try:
        async with asyncio.timeout(BODY_WITHIN_S):
            while more:
                message = await receive()
                if message["type"] == "http.disconnect":
                    raise Turned(400, "body.cut", "The body ended before it was whole.")
                body += message.get("body", b"")
                more = message.get("more_body", False)
                if len(body) > MOST_BODY:
                    raise too_large
    except TimeoutError:
        raise Turned(
            408, "body.slow", f"The body did not come within {BODY_WITHIN_S:.0f} seconds."
        ) from None
    return bytes(body)


def _again(body: bytes, receive: Receive) -> Receive:
    waiting = [{"type": "http.request", "body": body, "more_body": False}]

    async def fed() -> Message:
        if waiting:
            return waiting.pop()
        return await receive()

    return fed


def _patient(receive: Receive) -> Receive:
    """An upload that says nothing for so long is over."""
    ended = False

    async def fed() -> Message:
        nonlocal ended
        if ended:
            return await receive()  # only listens for the end of the connection
        try:
            async with asyncio.timeout(SILENT_S):
                message = await receive()
        except TimeoutError:
            return {"type": "http.disconnect"}
        ended = not message.get("more_body", False)
        return message

    return fed


async def _answer(send: Send, turned: Turned) -> None:
    """The whole answer at once, before Django is asked; the line ends with it, since what was sent
    isn't read to its end.
    """
    body = problem_body(turned.status, turned.code, turned.detail, **turned.facts)
    headers = [
        (b"content-type", PROBLEM.encode()),
        (b"connection", b"close"),
        (b"retry-after", b"1"),
        (b"cache-control", b"no-store"),
    ]
    await send({"type": "http.response.start", "status": turned.status, "headers": headers})
    await send({"type": "http.response.body", "body": json.dumps(body).encode()})
