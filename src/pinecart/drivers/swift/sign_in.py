"""Signing in with a user and a key, which gives a token and the account's address (auth v1)."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from typing import Any, NamedTuple
from urllib.parse import urlsplit

from pinecart.core.errors import Busy, Refused
from pinecart.drivers.swift.wire_errors import error_from
from pinecart.drivers.transport import Transport


class SwiftAccount(NamedTuple):
    """What somebody gave. token: instead of user and key."""

    auth_url: str
    user: str
    key: str
    token: str
    storage_url: str

    def __repr__(self) -> str:
        return f"SwiftAccount({self.user!r}, …)"


class SwiftSignIn:
    """token: goes with each request: got when it is first needed, and anew when it is no longer
    taken.   way: to where that is done.   origin: of the machine that has the files.   path:
    of the account there.
    """

    def __init__(self, name: str, account: SwiftAccount, way: Transport, origin: str) -> None:
        """origin: of the store's own address; a token is sent nowhere else."""
        self._name = name
        self._way = way
        self._origin = origin
        self._one_at_a_time = asyncio.Lock()
        self.take_up(account)

    def take_up(self, account: SwiftAccount) -> None:
        """Begin with other credentials, and with none of the tokens that the ones before gave."""
        self._account = account
        self.token = account.token
        self.path = urlsplit(account.storage_url).path.rstrip("/")
        self._good = ""  # the last token that was taken

    async def must_have_token(self) -> None:
        """Raises SignInRefused."""
        if not self.token:
            async with self._one_at_a_time:
                if not self.token:
                    self.token = await self._signed_in()

    async def _signed_in(self) -> str:
        """The token. Raises StoreError."""
        account = self._account
        headers = {"x-auth-user": account.user, "x-auth-key": account.key}
        target = urlsplit(account.auth_url).path or "/"
        answer = await self._way.ask("GET", target, headers)
        told = answer.headers
        if answer.status not in (200, 204):
            what = f"Signing in at {self._name}"
            raise error_from(answer.status, told, bytes(answer.body), what=what)
        if not account.storage_url:
            address = told.get("X-Storage-Url", "")
            self.path = self._path_told(address)
        return told.get("X-Auth-Token") or told.get("X-Storage-Token", "")

    def _path_told(self, url: str) -> str:
        """The token is sent to no other machine than the one that was named."""
        parts = urlsplit(url)
        if f"{parts.scheme}://{parts.netloc.lower()}" != self._origin:
            raise Refused(
                f"{self._name} has its files at {url[:200]!r}, which is another address than that "
                "of the sign-in. Give the store that address as its storage URL.",
                code="store.redirected",
            )
        return parts.path.rstrip("/")

    def well(self, token: str) -> None:
        self._good = token

    def refused(self, token: str) -> None:
        """Raises Busy for a token that was good, or is no longer in use: several requests may be
        refused for the same one. One that never was good is refused for good.
        """
        if self._account.token:
            return
        is_over = token != self.token
        if not is_over:
            self.token = ""
        if is_over or token == self._good:
            message = f"{self._name} asked to sign in anew. It is tried again."
            raise Busy(message, code="store.busy", wait_s=0.0)


def account_of(spec: Mapping[str, Any]) -> SwiftAccount:
    return SwiftAccount(
        spec.get("auth_url") or "",
        spec.get("user") or "",
        spec.get("key") or "",
        spec.get("token") or "",
        spec.get("storage_url") or "",
    )
