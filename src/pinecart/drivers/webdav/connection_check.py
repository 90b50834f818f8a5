"""Trying a WebDAV server: from the name to a written, read and deleted file of our own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pinecart.core.errors import Busy, SignInRefused, StoreError
from pinecart.core.totals import size_text
from pinecart.drivers.connection_steps import (
    Step,
    reaches,
)
from pinecart.drivers.remote_tree.connection_check import try_tree
from pinecart.drivers.webdav.store import DavStore

SIGN_IN = "sign in"
_WAYS = {
    "digest": "by a digest: the password itself is not sent",
    "basic": "by its password",
    "token": "by its token",
}


async def try_webdav(spec: Mapping[str, Any], write_to: str, steps: list[Step]) -> None:
    endpoint = await reaches(spec["url"], spec, steps)
    if endpoint is None:
        return
    try:
        store = DavStore(spec)
    except StoreError as exc:
        steps.append(Step("connect", False, exc.message, exc.code))
        return
    try:
        if await _signs_in(store, steps, is_tls=endpoint.is_tls):
            await _room(store, steps)
            await try_tree(store, write_to, steps)
    finally:
        await store.close()


async def _signs_in(store: DavStore, steps: list[Step], *, is_tls: bool) -> bool:
    """Whether it goes on: the account is let in, by which way."""
    try:
        await store.check_place(b"")
    except StoreError as exc:
        is_answer = isinstance(exc, Busy) or exc.code in ("store.redirected", "store.unsupported")
        name = "answer" if is_answer else SIGN_IN
        if not isinstance(exc, Busy | SignInRefused) and not is_answer:
            steps.append(Step(SIGN_IN, True, "It lets us in."))
            name = "list"
        steps.append(Step(name, False, exc.message, exc.code))
        return False
    way = store.client.sign_in.way
    words = f"The account is let in, {_WAYS[way]}." if way else "Everybody is let in."
    if way in ("basic", "token") and not is_tls:
        words += " Without TLS it can be read on its way: use https where the server has it."
    found = {"sign_in_by": way} if way in ("basic", "digest") else {}
    steps.append(Step(SIGN_IN, True, words, found=found))
    return True


async def _room(store: DavStore, steps: list[Step]) -> None:
    """What the server tells of its room, where it does."""
    try:
        free, used = await store.dav.room()
    except StoreError:
        return  # many servers have no such thing; what is really wrong, the next step tells
    if free is None:
        return
    told = f", {size_text(used)} are used" if used is not None else ""
    steps.append(Step("room", True, f"{size_text(free)} are free{told}."))
