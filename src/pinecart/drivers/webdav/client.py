"""Requests to one WebDAV server: signed in as it asks for it, one attempt each, answered in our own
words.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping
from contextlib import asynccontextmanager
from typing import Any
from urllib.parse import urlsplit

from pinecart.core.errors import Busy, StoreError
from pinecart.core.places import show
from pinecart.drivers.http_message import Headers, HttpAnswer, Pieces
from pinecart.drivers.transport import MOST_ANSWER, Transport, transport_from
from pinecart.drivers.webdav.signing import DavAccount, Digest, basic, best_digest, challenges_of
from pinecart.drivers.webdav.wire import encoded, path_of, told_by
from pinecart.drivers.webdav.wire_errors import error_from


class HttpSignIn:
    """What goes with each request.

    only: "basic" or "digest"; empty: whichever it is asked for, a digest if it may be.   way: how
    it is done: one of these, or "token"; empty: that isn't known yet.
    """

    def __init__(self, account: DavAccount, only: str = "") -> None:
        """only: "basic" where its store says that no other way is to be tried."""
        self._account = account
        self._only = only
        self._digest: Digest | None = None
        self._was_well = False
        self.way = ""
        if account.token:
            self.way = "token"
        elif only == "basic":
            self.way = "basic"

    def header(self, method: str, target: str) -> str:
        """Empty: none yet."""
        if self._account.token:
            return f"Bearer {self._account.token}"
        if self._digest is not None:
            return self._digest.answer(method, target)
        if self.way == "basic":
            return basic(self._account)
        return ""

    def well(self) -> None:
        self._was_well = True

    def refused(self, asked: list[str], sent: str) -> bool:
        """Take up what the server asks for. True: another attempt is worth it."""
        if self._account.token or not self._account.user or sent.startswith("Basic "):
            return False
        challenges = challenges_of(asked)
        digest = best_digest(challenges) if self._only != "basic" else None
        if digest is not None:
            is_stale = digest.params.get("stale", "").lower() == "true"
            if sent and not is_stale and not self._was_well:
                return False  # it knew our answer, and the password is wrong
            self._digest = Digest(digest, self._account)
            self.way = "digest"
            return True
        if self._only != "digest" and any(c.scheme == "basic" for c in challenges):
            self.way = "basic"
            return True
        return False


class DavClient:
    """url: of the folder that everything lies below."""

    def __init__(self, name: str, url: str, transport: Transport, sign_in: HttpSignIn) -> None:
        """url: of the folder that is the store's root; all paths are below it, and no answer leads
        out of it.
        """
        self.name = name
        self.transport = transport
        self.sign_in = sign_in
        self.base = path_of(urlsplit(url).path)

    @classmethod
    def from_spec(cls, spec: Mapping[str, Any]) -> DavClient:
        parts = urlsplit(spec["url"])
        transport = transport_from(f"{parts.scheme}://{parts.netloc}", spec)
        return cls(spec["name"], spec["url"], transport, sign_in_of(spec))

    def target(self, path: bytes) -> str:
        if path:
            return encoded(self.base + b"/" + path)
        return encoded(self.base) + "/"

    def url(self, path: bytes) -> str:
        return self.transport.origin + self.target(path)

    def named(self, path: bytes) -> str:
        return f"pine://{self.name}/{show(path)}"

    async def ask(
        self,
        method: str,
        path: bytes,
        *,
        headers: Mapping[str, str] | None = None,
        body: bytes | Pieces | None = None,
        most: int = MOST_ANSWER,
        into: bytearray | None = None,
    ) -> HttpAnswer:
        """Raises Busy where a body that comes in pieces would have to be sent again."""
        target = self.target(path)
        given = dict(headers or {})
        for _ in range(2):
            sent = self._signed(method, target, given)
            answer = await self.transport.ask(method, target, given, body, most, into)
            if not self._must_sign_in_anew(answer.status, answer.headers, sent):
                break
            if isinstance(body, Pieces):
                message = f"{self.name} asked to sign in anew. It is tried again."
                raise Busy(message, code="store.busy")
        return answer

    @asynccontextmanager
    async def streamed(
        self,
        method: str,
        path: bytes,
        headers: Mapping[str, str],
        body: bytes | None = None,
    ) -> AsyncIterator[tuple[int, Mapping[str, str], AsyncIterator[bytes]]]:
        """Raises Busy where it has to be asked again, signed in anew."""
        target = self.target(path)
        given = dict(headers)
        sent = self._signed(method, target, given)
        async with self.transport.streamed(method, target, given, body) as answer:
            if self._must_sign_in_anew(answer[0], answer[1], sent):
                message = f"{self.name} asked to sign in anew. It is tried again."
                raise Busy(message, code="store.busy", wait_s=0.0)
            yield answer

    def _signed(self, method: str, target: str, headers: dict[str, str]) -> str:
        """What was sent to be let in, for whoever has to know whether it was refused; empty:
        nothing, since nobody has asked for it.
        """
        sent = self.sign_in.header(method, target)
        if sent:
            headers["authorization"] = sent
        return sent

    def _must_sign_in_anew(self, status: int, headers: Mapping[str, str], sent: str) -> bool:
        """Whether the same request is worth another try, in the way that the server has just asked
        for. Once for each of its challenges.
        """
        if status == 401:
            assert isinstance(headers, Headers)
            return self.sign_in.refused(headers.all_of("WWW-Authenticate"), sent)
        if sent and status < 400:
            self.sign_in.well()
        return False

    def error(self, answer: HttpAnswer, path: bytes, doing: str) -> StoreError:
        """What an answer that is none of the good ones means."""
        return self.error_of(answer.status, answer.headers, path, doing)

    def error_of(
        self, status: int, headers: Mapping[str, str], path: bytes, doing: str
    ) -> StoreError:
        """What a status means for this path. One that asks to go slower is heard by all who use the
        store.
        """
        found = error_from(status, headers, what=f"{doing} {self.named(path)}")
        if status in (429, 503):
            self.transport.slow_down(headers.get("Retry-After", ""))
        return found

    async def good(self, method: str, path: bytes, doing: str, **more: Any) -> HttpAnswer:
        """A 207 means that something in it failed, for all but a question for properties."""
        answer = await self.ask(method, path, **more)
        status = answer.status
        if status == 207:
            told = told_by(bytes(answer.body))
            status = max((one.status for one in told), default=200)
        is_good = 200 <= status < 300
        if not is_good:
            raise self.error_of(status, answer.headers, path, doing)
        return answer


def sign_in_of(spec: Mapping[str, Any]) -> HttpSignIn:
    user = spec.get("user")
    password = spec.get("password")
    token = spec.get("token")
    only = spec.get("sign_in_by")
    account = DavAccount(user or "", password or "", token or "")
    return HttpSignIn(account, only or "")
