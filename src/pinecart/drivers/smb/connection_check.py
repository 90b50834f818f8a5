"""Trying an SMB share: from the name to a written, read and deleted file of our own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pinecart.core.errors import StoreError
from pinecart.drivers.connection_steps import Endpoint, Step, allowed_of, connects, resolves
from pinecart.drivers.remote_tree.connection_check import try_tree
from pinecart.drivers.smb.lines import SmbServer
from pinecart.drivers.smb.store import SmbStore

_STEPS = {"store.no-share": "share", "store.no-encryption": "encryption", "store.no-smb": "answer"}


async def try_smb(spec: Mapping[str, Any], write_to: str, steps: list[Step]) -> None:
    server = SmbServer.from_spec(spec)
    address = await resolves(server.host, server.port, steps)
    endpoint = Endpoint(server.host, server.port)
    if not address or not await connects(endpoint, address, allowed_of(spec), steps):
        return
    store = SmbStore(spec)
    try:
        if await _signs_in(store, server, steps):
            await try_tree(store, write_to, steps)
    finally:
        await store.close()


async def _signs_in(store: SmbStore, server: SmbServer, steps: list[Step]) -> bool:
    """Whether it goes on: the account is let in, and the share's root is there."""
    failed: StoreError | None = None
    try:
        await store.check_place(b"")
    except StoreError as exc:
        failed = exc
        if exc.code != "store.missing":
            steps.append(Step(_STEPS.get(exc.code, "sign in"), False, exc.message, exc.code))
            return False
    how = "and all is encrypted" if server.encrypts else "each message is signed"
    steps.append(Step("sign in", True, f"{server.user} is let in; {how}."))
    steps.append(Step("share", True, f"The share {server.share} is there."))
    if failed is not None:
        steps.append(Step("list", False, failed.message, failed.code))
    return failed is None
