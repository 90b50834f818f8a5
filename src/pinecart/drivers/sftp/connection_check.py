"""Trying an SFTP server: from the name to a written, read and deleted file of our own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pinecart.core.errors import Busy, SignInRefused, StoreError
from pinecart.drivers.connection_steps import Endpoint, Step, allowed_of, connects, resolves
from pinecart.drivers.remote_tree.connection_check import try_tree
from pinecart.drivers.sftp.lines import SshServer, shown_host_key
from pinecart.drivers.sftp.store import SftpStore

HOST_KEY = "host key"
SIGN_IN = "sign in"


async def try_sftp(spec: Mapping[str, Any], write_to: str, steps: list[Step]) -> None:
    """From the network up to a file of our own. A host key that nobody has pinned yet is shown, and
    pinned by whoever saves the store.
    """
    server = SshServer.from_spec(spec)
    try:
        server.client_keys()
    except SignInRefused as exc:
        steps.append(Step(SIGN_IN, False, exc.message, exc.code))
        return
    endpoint = Endpoint(server.host, server.port)
    address = await resolves(endpoint.host, endpoint.port, steps)
    if not address or not await connects(endpoint, address, allowed_of(spec), steps):
        return
    if server.host_key is None:
        try:
            shown = await shown_host_key(server)
        except StoreError as exc:
            steps.append(Step(HOST_KEY, False, exc.message, exc.code))
            return
        words = (
            f"It shows {shown}. Compare that with what its owner says: it is pinned from now on, "
            "and another one is refused."
        )
        steps.append(Step(HOST_KEY, True, words, found={"host_key": str(shown)}))
        server = server._replace(host_key=shown)
    store = SftpStore({**spec, "host_key": str(server.host_key)})
    try:
        if await _signs_in(store, server, steps):
            await try_tree(store, write_to, steps)
    finally:
        await store.close()


async def _signs_in(store: SftpStore, server: SshServer, steps: list[Step]) -> bool:
    """Whether it goes on: the host is the pinned one, and the account is let in."""
    failed: StoreError | None = None
    try:
        await store.check_place(b"")
    except StoreError as exc:
        failed = exc
    if failed is not None and failed.code == "store.host-key-changed":
        steps.append(Step(HOST_KEY, False, failed.message, failed.code))
        return False
    is_told = any(step.step == HOST_KEY for step in steps)
    if not is_told and not isinstance(failed, Busy):
        steps.append(Step(HOST_KEY, True, f"It shows the pinned one, {server.host_key}."))
    if isinstance(failed, Busy | SignInRefused) or (failed and failed.code == "store.no-sftp"):
        steps.append(Step(SIGN_IN, False, failed.message, failed.code))
        return False
    steps.append(Step(SIGN_IN, True, f"{server.user} is let in."))
    return True
