"""Trying a WebHDFS file system: from the name to a written, read and deleted file of our own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pinecart.core.errors import Busy, SignInRefused, StoreError
from pinecart.drivers.connection_steps import Step, reaches
from pinecart.drivers.remote_tree.connection_check import try_tree
from pinecart.drivers.webhdfs.store import HdfsStore


async def try_webhdfs(spec: Mapping[str, Any], write_to: str, steps: list[Step]) -> None:
    if not await reaches(spec["url"], spec, steps):
        return
    try:
        store = HdfsStore(spec)
    except StoreError as exc:
        steps.append(Step("connect", False, exc.message, exc.code))
        return
    try:
        if await _signs_in(store, spec, steps):
            await try_tree(store, write_to, steps)
    finally:
        await store.close()


async def _signs_in(store: HdfsStore, spec: Mapping[str, Any], steps: list[Step]) -> bool:
    failed: StoreError | None = None
    try:
        await store.check_place(b"")
    except StoreError as exc:
        failed = exc
    if isinstance(failed, Busy):
        steps.append(Step("answer", False, failed.message, failed.code))
        return False
    if isinstance(failed, SignInRefused):
        steps.append(Step("sign in", False, failed.message, failed.code))
        return False
    who = "The token is accepted." if spec.get("token") else f"We are {spec['user']} there."
    if not spec.get("token"):
        who += " Nobody asked for a proof of that: whoever reaches it may say so."
    steps.append(Step("sign in", True, who))
    if failed is not None:
        steps.append(Step("list", False, failed.message, failed.code))
    return failed is None
