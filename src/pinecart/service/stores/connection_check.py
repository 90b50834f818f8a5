"""Try a store: which of resolve, connect, sign in, list, read, write, delete works, each with its
own plain answer.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import pwd
import secrets
import socket
import ssl
from collections.abc import Awaitable, Callable
from typing import Any
from urllib.parse import urlsplit

from pinecart.core.checksum import crc_of
from pinecart.core.errors import Busy, Missing, Refused, SignInRefused, StoreError
from pinecart.core.ports import Put, Store, WriteStamp
from pinecart.drivers import open_store
from pinecart.drivers.addresses import Allowed

LIMIT_S = 9.0
BODY = b"Pine Cart tries whether it may write here.\n"
Step = dict[str, Any]


def step(name: str, ok: bool | None, words: str, code: str = "") -> Step:
    """ok None: not tried, and `words` say why."""
    return {"step": name, "ok": ok, "message": words, "code": code}


async def try_store(spec: dict[str, Any], *, write_to: str = "") -> list[Step]:
    """Never raises for what the far side does, and answers within 10 s.

    write_to: a path to try writing at; empty: don't.
    """
    steps: list[Step] = []
    quick = spec | {"retry": {"times": 1}, "connect_s": 3.0, "silence_s": 4.0}
    with contextlib.suppress(TimeoutError):
        async with asyncio.timeout(LIMIT_S):
            await (_try_folder if spec["kind"] == "folder" else _try_bucket)(quick, write_to, steps)
            return steps
    steps.append(
        step(
            "time",
            False,
            f"No answer within {LIMIT_S:.0f} s. The other side accepts and then says nothing.",
            "store.silent",
        )
    )
    return steps


async def _try_bucket(spec: dict[str, Any], write_to: str, steps: list[Step]) -> None:
    parts = urlsplit(spec["endpoint"])
    try:
        port = parts.port or (443 if parts.scheme == "https" else 80)
        found = await asyncio.get_running_loop().getaddrinfo(
            parts.hostname, port, type=socket.SOCK_STREAM
        )
    except (OSError, ValueError, UnicodeError):
        steps.append(
            step(
                "resolve",
                False,
                f"{parts.hostname} is not known. Check the address for typing errors.",
                "store.unresolved",
            )
        )
        return
    address = str(found[0][4][0])
    steps.append(step("resolve", True, f"{parts.hostname} is {address}."))
    if not spec.get("proxy") and not await _connects(
        spec, address, port, parts.hostname or "", steps
    ):
        return
    try:
        store = open_store(spec)
    except StoreError as exc:
        steps.append(step("connect", False, exc.message, exc.code))
        return
    try:
        await _try_listing(store, spec, write_to, steps)
    finally:
        await store.close()


async def _connects(
    spec: dict[str, Any], address: str, port: int, host: str, steps: list[Step]
) -> bool:
    """A bare connection, then TLS: told apart from everything that comes after."""
    try:
        Allowed(tuple(spec.get("allowed", ()))).check(address)
        async with asyncio.timeout(3):
            _, writer = await asyncio.open_connection(address, port)
        writer.close()
    except StoreError as exc:
        steps.append(step("connect", False, exc.message, exc.code))
        return False
    except TimeoutError:
        words = (
            f"{address} port {port} does not answer at all within 3 s: a firewall may drop the "
            "packets, or nothing is there."
        )
        steps.append(step("connect", False, words, "store.unreachable"))
        return False
    except OSError as exc:
        words = (
            f"{address} port {port} refuses the connection ({exc.strerror or exc}). Check the "
            "address and the port."
        )
        steps.append(step("connect", False, words, "store.unreachable"))
        return False
    steps.append(step("connect", True, f"Port {port} answers."))
    if not spec["endpoint"].startswith("https:"):
        return True
    verified = ssl.create_default_context(cadata=spec.get("certificate") or None)
    try:
        async with asyncio.timeout(4):
            _, writer = await asyncio.open_connection(
                address, port, ssl=verified, server_hostname=host
            )
        writer.close()
    except (ssl.SSLError, OSError, TimeoutError) as exc:
        why = getattr(exc, "verify_message", "") or str(exc) or "no answer"
        words = (
            f"Its certificate is not accepted: {why}. Check the name in the address, or give the "
            "certificate file."
        )
        steps.append(step("TLS", False, words, "store.certificate"))
        return False
    steps.append(step("TLS", True, "Its certificate is accepted."))
    return True


async def _clock(store: Store, steps: list[Step]) -> None:
    """How far our clock is from theirs, by the Date that every answer carries."""
    behind = await store.clock_difference_s()  # type: ignore[attr-defined]
    if behind is None:
        return
    ok = abs(behind) < 300
    words = f"Its clock differs from this machine's by {abs(behind):.0f} s." + (
        "" if ok else " Set this machine's clock."
    )
    steps.append(step("clock", ok, words, "" if ok else "store.clock"))


async def _try_listing(
    store: Store, spec: dict[str, Any], write_to: str, steps: list[Step]
) -> None:
    confined = bool(spec.get("root") or write_to)
    prefix = write_to.encode().rstrip(b"/") + b"/" if write_to else b""
    try:
        level = await store.level(prefix)
        await _clock(store, steps)
    except StoreError as exc:
        await _clock(store, steps)
        _explain(exc, steps)
        return
    key = f"Key id {spec['key_id']} is accepted." if not spec.get("anonymous") else "Without a key."
    steps.append(step("sign in", True, key))
    told = f"{len(level.folders)} buckets." if not confined else "The place can be listed."
    steps.append(step("list", True, told))
    if not write_to and not spec.get("root"):
        steps.append(step("write", None, "Not tried: name a bucket to write to."))
        return
    await _try_object(store, prefix, steps)


def _explain(exc: StoreError, steps: list[Step]) -> None:
    if isinstance(exc, Busy) or exc.code in (
        "store.address-refused",
        "store.certificate",
        "store.address",
    ):
        steps.append(step("answer", False, exc.message, exc.code))
        return
    if exc.code == "store.clock":
        if not any(s["code"] == exc.code for s in steps):
            steps.append(step("clock", False, exc.message, exc.code))
        return
    if isinstance(exc, SignInRefused) or exc.code == "store.region":
        steps.append(step("sign in", False, exc.message, exc.code))
        return
    steps.append(step("sign in", True, "The key is accepted."))
    steps.append(step("list", False, exc.message, exc.code))


async def _try_object(store: Store, prefix: bytes, steps: list[Step]) -> None:
    """Write, read and delete a small object of our own, under a name that can't collide."""
    key = prefix + f".pinecart-probe-{secrets.token_hex(8)}".encode()
    card = WriteStamp("try", None, crc_of(BODY))

    async def write() -> str:
        await store.put(Put(key, len(BODY), BODY, card, if_absent=True))
        return "A small file of our own was written."

    async def read() -> str:
        async with store.open(key) as reading:
            same = await reading.whole() == BODY
        if not same:
            raise Refused("What was read is not what was written.", code="store.corrupt")
        return "It was read back, byte for byte."

    async def delete() -> str:
        await store.remove_probe(key)  # type: ignore[attr-defined]
        return "It was deleted again."

    for name, call in (("write", write), ("read", read), ("delete", delete)):
        if not await _one(name, call, steps) and name == "write":
            return
    abilities = await store.probe(prefix)
    verified = {"crc64nvme": "CRC-64/NVME", "md5": "MD5"}.get(abilities.checksum)
    words = (
        f"The store verifies {verified} checksums."
        if verified
        else "The store verifies no checksum we know: writes are compared by size."
    )
    steps.append(step("checksums", bool(verified), words))


async def _one(name: str, call: Callable[[], Awaitable[str]], steps: list[Step]) -> bool:
    try:
        steps.append(step(name, True, await call()))
    except StoreError as exc:
        steps.append(step(name, False, exc.message, exc.code))
        return False
    return True


FOLDED = (
    "upper and lower case",
    "letters that case folding makes two, such as \u00df and ss",
    "a letter with its accent, as one code point or two",
)


async def _try_folder(spec: dict[str, Any], write_to: str, steps: list[Step]) -> None:
    account = pwd.getpwuid(os.geteuid()).pw_name
    store = open_store(spec)
    try:
        await store.check_place(b"")
        level = await store.level(write_to.encode(), limit=1000)
        found = f"{len(level.folders)} folders and {len(level.entries)} files on this level."
        steps.append(step("list", True, f"The system account {account!r} may read it: {found}"))
    except (StoreError, Missing) as exc:
        steps.append(
            step("list", False, f"The system account is {account!r}. {exc.message}", exc.code)
        )
        return
    may = os.access(os.path.join(spec["path"], write_to), os.W_OK)
    words = f"The system account {account!r} may {'' if may else 'not '}write there."
    steps.append(step("write", may, words, "" if may else "store.refused"))
    place = write_to.encode()
    able = await store.probe(place) if write_to and may else await store.abilities(place)
    rules = [words for holds, words in zip(able.folding, FOLDED, strict=True) if holds]
    words = (
        f"One name there: {'; '.join(rules)}. Two files that differ only so are refused, and "
        "listed."
    )
    if rules:
        steps.append(step("names", True, words))
