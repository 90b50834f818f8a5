"""Trying a remote tree that lets us in: listing, and where asked a file of our own."""

from __future__ import annotations

from pinecart.core.checksum import crc_of
from pinecart.core.errors import Refused, StoreError
from pinecart.core.ports import Abilities, Put, WriteStamp
from pinecart.drivers.connection_steps import Step, folded_step, probe_name, takes
from pinecart.drivers.remote_tree.store import RemoteTreeStore

BODY = b"Pine Cart tries whether it may write here.\n"


async def try_tree(store: RemoteTreeStore, write_to: str, steps: list[Step]) -> None:
    prefix = write_to.encode().strip(b"/") + b"/" if write_to.strip("/") else b""
    try:
        level = await store.level(prefix)
    except StoreError as exc:
        steps.append(Step("list", False, exc.message, exc.code))
        return
    found = f"{len(level.folders)} folders and {len(level.entries)} files on this level."
    steps.append(Step("list", True, found))
    if not write_to:
        steps.append(
            Step("write", None, "Not tried: name a folder to write to, or / for this one.")
        )
        return
    await _try_file(store, prefix, steps)


async def _try_file(store: RemoteTreeStore, prefix: bytes, steps: list[Step]) -> None:
    """Write, read and delete a small file of our own."""
    key = prefix + probe_name()

    async def write() -> str:
        stamp = WriteStamp("try", 1_600_000_000_000_000_000, crc_of(BODY))
        await store.put(Put(key, len(BODY), BODY, stamp, if_absent=True))
        return "A small file of our own was written."

    async def read() -> str:
        async with store.open(key) as reading:
            same = await reading.whole() == BODY
        if not same:
            raise Refused("What was read is not what was written.", code="store.corrupt")
        return "It was read back, byte for byte."

    async def delete() -> str:
        await store.remove(key, (await store.stat(key)).entry)
        return "It was deleted again."

    if not await takes("write", write, steps):
        return
    await takes("read", read, steps)
    await takes("delete", delete, steps)
    able = await store.probe(prefix)
    steps.append(Step("abilities", True, abilities_told(able)))
    steps += folded_step(able.folding)


def abilities_told(able: Abilities) -> str:
    if not able.keeps_times:
        times = "Times can't be set: a copy is told from its original by what is remembered."
    elif able.time_step_ns > 1:
        times = f"Times are kept to {_step(able.time_step_ns)}."
    else:
        times = "Times are kept."
    guarded = (
        "It refuses by itself to replace what is there."
        if able.create_only
        else "It replaces what is there without a word: each name is looked at just before."
    )
    return f"{times} {guarded}"


def _step(step_ns: int) -> str:
    if step_ns >= 1_000_000_000:
        seconds = step_ns // 1_000_000_000
        return "the second" if seconds == 1 else f"{seconds} seconds"
    return f"{step_ns / 1_000_000:g} ms" if step_ns >= 1_000_000 else f"{step_ns / 1000:g} µs"
