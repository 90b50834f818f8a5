"""Trying a remote tree that lets us in: listing, and where asked a file of our own."""

from __future__ import annotations

from pinecart.core.errors import StoreError
from pinecart.core.ports import Abilities
from pinecart.drivers.connection_steps import Step, folded_step, probe_name, takes_a_file
from pinecart.drivers.remote_tree.store import RemoteTreeStore


async def try_tree(store: RemoteTreeStore, write_to: str, steps: list[Step]) -> None:
    prefix = write_to.encode().strip(b"/") + b"/" if write_to.strip("/") else b""
    try:
        level = await store.level(prefix)
    except StoreError as exc:
        steps.append(Step("list", False, exc.message, exc.code))
        return
    found = f"{_count(len(level.folders), 'folder')} and {_count(len(level.entries), 'file')} here."
    steps.append(Step("list", True, found))
    if not write_to:
        steps.append(
            Step("write", None, "Not tried: name a folder to write to, or / for this one.")
        )
        return
    key = prefix + probe_name()

    async def take_away() -> None:
        await store.remove(key, (await store.stat(key)).entry)

    if not await takes_a_file(store, key, take_away, steps):
        return
    able = await store.probe(prefix)
    words = abilities_told(able)
    learned = store.learned()
    if learned.get("conditions"):
        words += " It replaces and removes only what it is told to, by its ETag."
    signs = learned.get("unheld")
    if signs:
        told = " ".join(signs)
        words += f" It takes names apart at {told} as it renames: such names are refused."
    steps.append(Step("abilities", True, words))
    steps += folded_step(able.folding)


def _count(count: int, word: str) -> str:
    if count == 1:
        return f"{count:,} {word}"
    return f"{count:,} {word}s"


def abilities_told(able: Abilities) -> str:
    if not able.keeps_times:
        times = "Times can't be set: a copy is told from its original by what is remembered."
    elif able.time_step_ns > 1:
        times = f"Times are kept to {_step(able.time_step_ns)}."
    else:
        times = "Times are kept."
    if able.create_only:
        guarded = "It refuses by itself to replace what is there."
    else:
        guarded = "It replaces what is there without a word: each name is looked at just before."
    return f"{times} {guarded}"


def _step(step_ns: int) -> str:
    """In words: of seconds, ms or µs."""
    seconds = step_ns // 1_000_000_000
    ms = step_ns / 1_000_000
    if seconds == 1:
        return "the second"
    if seconds:
        return f"{seconds} seconds"
    if ms >= 1:
        return f"{ms:g} ms"
    return f"{step_ns / 1000:g} µs"
