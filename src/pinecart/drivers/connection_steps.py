"""Trying a store before anything depends on it: the steps that every kind takes."""

from __future__ import annotations

import asyncio
import secrets
import socket
import ssl
from collections.abc import Awaitable, Callable, Mapping
from typing import Any, NamedTuple
from urllib.parse import urlsplit

from pinecart.core.checksum import crc_of
from pinecart.core.errors import Refused, StoreError
from pinecart.core.folding import Folding
from pinecart.core.ports import Put, Store, WriteStamp
from pinecart.drivers.addresses import Allowed

CONNECT_S = 3
TLS_S = 4
FOLDED = (
    "upper and lower case",
    "letters that case folding makes two, such as \u00df and ss",
    "a letter with its accent, as one code point or two",
)
CLOCK_APART_S = 300  # signatures are refused from about here on


class Step(NamedTuple):
    """One thing that was tried. ok: None: not tried, and the message says why.

    found: fields of the store that it told, and that are kept with it from then on.
    """

    step: str
    ok: bool | None
    message: str
    code: str = ""
    found: Mapping[str, str] = {}


class Endpoint(NamedTuple):
    """Where a connection goes, and how. certificate: of the authority, PEM; empty: the usual."""

    host: str
    port: int
    is_tls: bool = False
    certificate: str = ""


async def reaches(url: str, spec: Mapping[str, Any], steps: list[Step]) -> Endpoint | None:
    """Resolves the host of an http address, and connects unless a proxy does that. None: it can't
    be reached.
    """
    endpoint = endpoint_of(url, spec)
    address = await resolves(endpoint.host, endpoint.port, steps)
    if not address:
        return None
    if not spec.get("proxy") and not await connects(endpoint, address, allowed_of(spec), steps):
        return None
    return endpoint


def endpoint_of(url: str, spec: Mapping[str, Any]) -> Endpoint:
    """Of an http or https address."""
    parts = urlsplit(url)
    is_tls = parts.scheme == "https"
    try:
        port = parts.port or (443 if is_tls else 80)
    except ValueError:  # no number, or none that a port has: no name is known with it
        port = 0
    return Endpoint(parts.hostname or "", port, is_tls, spec.get("certificate") or "")


async def resolves(host: str, port: int, steps: list[Step]) -> str:
    """The address of a name; empty: it isn't known."""
    loop = asyncio.get_running_loop()
    try:
        found = await loop.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except (OSError, ValueError, UnicodeError):
        words = f"{host} is not known. Check the address for typing errors."
        steps.append(Step("resolve", False, words, "store.unresolved"))
        return ""
    address = str(found[0][4][0])
    steps.append(Step("resolve", True, f"{host} is {address}."))
    return address


async def connects(
    endpoint: Endpoint, address: str, allowed: tuple[str, ...], steps: list[Step]
) -> bool:
    """A bare connection, then TLS: told apart from everything that comes after."""
    wrong = await _bare_connection(endpoint, address, allowed)
    if wrong:
        steps.append(wrong)
        return False
    words = f"Port {endpoint.port} answers."
    steps.append(Step("connect", True, words))
    if not endpoint.is_tls:
        return True
    wrong = await _handshake(endpoint, address)
    if wrong:
        steps.append(wrong)
        return False
    steps.append(Step("TLS", True, "Its certificate is accepted."))
    return True


async def _bare_connection(
    endpoint: Endpoint, address: str, allowed: tuple[str, ...]
) -> Step | None:
    try:
        Allowed(allowed).check(address)
        async with asyncio.timeout(CONNECT_S):
            _, writer = await asyncio.open_connection(address, endpoint.port)
        writer.close()
    except StoreError as exc:
        return Step("connect", False, exc.message, exc.code)
    except TimeoutError:
        words = (
            f"{address} port {endpoint.port} does not answer at all within {CONNECT_S} s: a "
            "firewall may drop the packets, or nothing is there."
        )
        return Step("connect", False, words, "store.unreachable")
    except OSError as exc:
        words = (
            f"{address} port {endpoint.port} refuses the connection ({exc.strerror or exc}). "
            "Check the address and the port."
        )
        return Step("connect", False, words, "store.unreachable")
    return None


async def _handshake(endpoint: Endpoint, address: str) -> Step | None:
    verified = ssl.create_default_context(cadata=endpoint.certificate or None)
    try:
        async with asyncio.timeout(TLS_S):
            _, writer = await asyncio.open_connection(
                address, endpoint.port, ssl=verified, server_hostname=endpoint.host
            )
        writer.close()
    except (ssl.SSLError, OSError, TimeoutError) as exc:
        why = getattr(exc, "verify_message", "") or str(exc) or "no answer"
        words = (
            f"Its certificate is not accepted: {why}. Check the name in the address, or give the "
            "certificate file."
        )
        return Step("TLS", False, words, "store.certificate")
    return None


def clock_step(behind_s: float) -> Step:
    """How far our clock is from theirs."""
    words = f"Its clock differs from this machine's by {abs(behind_s):.0f} s."
    if abs(behind_s) < CLOCK_APART_S:
        return Step("clock", True, words)
    return Step("clock", False, f"{words} Set this machine's clock.", "store.clock")


def probe_name() -> bytes:
    """Of a small object of our own, that can't collide."""
    return f".pinecart-probe-{secrets.token_hex(8)}".encode()


async def takes(name: str, call: Callable[[], Awaitable[str]], steps: list[Step]) -> bool:
    """One step, told in the words that the call gives back."""
    try:
        steps.append(Step(name, True, await call()))
    except StoreError as exc:
        steps.append(Step(name, False, exc.message, exc.code))
        return False
    return True


def folded_step(folding: Folding) -> list[Step]:
    """Where several spellings are one name: which."""
    rules = [words for holds, words in zip(folding, FOLDED, strict=True) if holds]
    if not rules:
        return []
    told = "; ".join(rules)
    words = f"One name there: {told}. Two files that differ only so are refused, and listed."
    return [Step("names", True, words)]


BODY = b"Pine Cart tries whether it may write here.\n"


async def takes_a_file(
    store: Store, key: bytes, take_away: Callable[[], Awaitable[None]], steps: list[Step]
) -> bool:
    """Write, read and delete a small file of our own. False: it could not be written."""

    async def write() -> str:
        stamp = WriteStamp("try", None, crc_of(BODY))
        await store.put(Put(key, len(BODY), BODY, stamp, if_absent=True))
        return "A small file of our own was written."

    async def read() -> str:
        async with store.open(key) as reading:
            same = await reading.whole() == BODY
        if not same:
            raise Refused("What was read is not what was written.", code="store.corrupt")
        return "It was read back, byte for byte."

    async def delete() -> str:
        await take_away()
        return "It was deleted again."

    if not await takes("write", write, steps):
        return False
    await takes("read", read, steps)
    await takes("delete", delete, steps)
    return True


def allowed_of(spec: Mapping[str, Any]) -> tuple[str, ...]:
    return tuple(spec.get("allowed", ()))
