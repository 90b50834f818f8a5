"""Trying a folder: whether this process's system account may read and write it, and which names
are one there.
"""

from __future__ import annotations

import os
import pwd
from collections.abc import Mapping
from typing import Any

from pinecart.core.errors import StoreError
from pinecart.drivers.connection_steps import Step
from pinecart.drivers.folder.store import FolderStore

FOLDED = (
    "upper and lower case",
    "letters that case folding makes two, such as \u00df and ss",
    "a letter with its accent, as one code point or two",
)


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
    found = f"{len(level.folders)} folders and {len(level.entries)} files on this level."
    steps.append(Step("list", True, f"The system account {account!r} may read it: {found}"))
    may_write = os.access(os.path.join(spec["path"], write_to), os.W_OK)
    steps.append(_write_step(account, may_write))
    able = await (store.probe if write_to and may_write else store.abilities)(place)
    rules = [words for holds, words in zip(able.folding, FOLDED, strict=True) if holds]
    if rules:
        words = f"One name there: {'; '.join(rules)}. "
        words += "Two files that differ only so are refused, and listed."
        steps.append(Step("names", True, words))


def _write_step(account: str, may_write: bool) -> Step:
    if may_write:
        return Step("write", True, f"The system account {account!r} may write there.")
    words = f"The system account {account!r} may not write there."
    return Step("write", False, words, "store.refused")
