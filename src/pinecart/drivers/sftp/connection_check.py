"""Trying an SFTP server: from the name to a written, read and deleted file of our own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pinecart.core.errors import Busy, SignInRefused, StoreError
from pinecart.drivers.connection_steps import (
    Endpoint,
    Step,
    allowed_of,
    connects,
    resolves,
)
from pinecart.drivers.remote_tree.connection_check import try_tree
from pinecart.drivers.sftp.host_key import HostKey
from pinecart.drivers.sftp.lines import SshServer, shown_host_key
from pinecart.drivers.sftp.store import SftpStore


async def try_sftp(spec: Mapping[str, Any], write_to: str, steps: list[Step]) -> None:
    server = SshServer.from_spec(spec)
    endpoint = Endpoint(server.host, server.port)
    address = await resolves(endpoint.host, endpoint.port, steps)
    if not address or not await connects(endpoint, address, allowed_of(spec), steps):
        return
    host_key = await _host_key(server, steps)
    if host_key is None:
        return
    store = SftpStore({**spec, "host_key": str(host_key)})
    try:
        await store.check_place(b"")
    except StoreError as exc:
        if isinstance(exc, Busy | SignInRefused) or exc.code == "store.no-sftp":
            steps.append(Step("sign in", False, exc.message, exc.code))
            await store.close()
            return
    steps.append(Step("sign in", True, f"{server.user} is let in."))
    try:
        await try_tree(store, write_to, steps)
    finally:
        await store.close()


async def _host_key(server: SshServer, steps: list[Step]) -> HostKey | None:
    """What it shows, held against what is pinned; None: it is not to be trusted."""
    try:
        shown = await shown_host_key(server)
    except StoreError as exc:
        steps.append(Step("host key", False, exc.message, exc.code))
        return None
    if shown is None:
        words = "It showed no host key: there is something else than SSH at this port."
        steps.append(Step("host key", False, words, "store.host-key"))
        return None
    pinned = server.host_key
    if pinned is None:
        words = (
            f"It shows {shown}. Compare that with what its owner says: it is pinned from now on, "
            "and another one is refused."
        )
        steps.append(Step("host key", True, words, found={"host_key": str(shown)}))
        return shown
    if pinned.fingerprint == shown.fingerprint:
        steps.append(Step("host key", True, f"It shows the pinned one, {pinned}."))
        return pinned
    words = (
        f"It shows {shown}, and {pinned} is pinned. Somebody may be in between. If its owner says "
        "that it was changed, change the store's host key."
    )
    steps.append(Step("host key", False, words, "store.host-key-changed"))
    return None
