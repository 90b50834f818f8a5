"""Trying a folder: whether this process's system account may read and write it, and which names
are one there.
"""

from __future__ import annotations

import os
import pwd
from collections.abc import Mapping
from typing import Any

from pinecart.core.errors import StoreError
from pinecart.drivers.connection_steps import Step, folded_step
from pinecart.drivers.folder.store import FolderStore


async def try_folder(spec: Mapping[str, Any], write_to: str, steps: list[Step]) -> None:
    account = pwd.getpwuid(os.geteuid()).pw_name
    store = FolderStore.from_spec(spec)
    place = write_to.encode()
    try:
        await store.check_place(b"")
        level = await store.level(place, limit=1000)
    except StoreError as exc:
        words = f"The system account is {account!r}. {exc.message}"
        steps.append(Step("list", False, words, exc.code))
        return
    folders = len(level.folders)
    files = len(level.entries)
    found = f"{folders} folders and {files} files on this level."
    words = f"The system account {account!r} may read it: {found}"
    steps.append(Step("list", True, words))
    full = os.path.join(spec["path"], write_to)
    may_write = os.access(full, os.W_OK)
    steps.append(_write_step(account, may_write))
    if write_to and may_write:
        able = await store.probe(place)
    else:
        able = await store.abilities(place)
    steps += folded_step(able.folding)


def _write_step(account: str, may_write: bool) -> Step:
    """Nothing is written into somebody's folder for a try: the system account's rights are looked
    at, and named with it.
    """
    if may_write:
        return Step("write", True, f"The system account {account!r} may write there.")
    words = f"The system account {account!r} may not write there."
    return Step("write", False, words, "store.refused")
