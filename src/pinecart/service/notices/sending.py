"""How a message leaves: by SMTP, or by a signed web call; to addresses that a store may have."""

from __future__ import annotations

import asyncio
import json
import smtplib
import socket
import ssl
import time
from collections.abc import Sequence
from datetime import datetime
from email.message import EmailMessage
from urllib.parse import urlsplit

from pinecart import __version__
from pinecart.core.checksum import crc_of
from pinecart.core.entries import Entry
from pinecart.core.errors import Missing, PinecartError, StoreError
from pinecart.core.happenings import Happening, signature_of, subject_of, text_of
from pinecart.core.places import parse_location
from pinecart.core.ports import Put, Store, WriteStamp
from pinecart.drivers import open_store
from pinecart.drivers.addresses import Allowed
from pinecart.drivers.transport import Transport
from pinecart.service.config.settings import OPTIONS
from pinecart.service.notices.selectors import (
    Rule,
    console_address,
    mail_server,
    password_of,
    secret_of_rule,
)
from pinecart.service.runs.selectors.records import placed_by
from pinecart.service.stores.selectors import spec_of, store_named

TIME_LIMIT_S = 20
MOST_ANSWER = 64 << 10
MOST_PLACED = 1000


class NotSent(Exception):
    """Why, in a sentence."""


def send(rule: Rule, happenings: Sequence[Happening], now: datetime) -> None:
    """One message that tells of all of them. Raises NotSent."""
    if rule.way == "mail":
        _by_mail(rule.to, happenings)
    elif rule.way == "marker":
        _by_marker(rule.to[0], happenings)
    else:
        _by_call(rule.to[0], secret_of_rule(rule), happenings, now)


def _by_mail(to: Sequence[str], happenings: Sequence[Happening]) -> None:
    server = mail_server()
    if server is None:
        raise NotSent("No mail server is set: pinecart notice mail --host HOST")
    message = EmailMessage()
    message["From"] = server.sender
    message["To"] = ", ".join(to)
    message["Subject"] = subject_of(happenings)
    message["Message-ID"] = f"<{happenings[0].id.replace(':', '.')}@pinecart.{server.host}>"
    message["Auto-Submitted"] = "auto-generated"  # RFC 3834: nobody's machine answers
    message.set_content(text_of(happenings, console_address()))
    tls = ssl.create_default_context()
    try:
        _checked(server.host, server.port)
        if server.security == "tls":
            line: smtplib.SMTP = smtplib.SMTP_SSL(
                server.host, server.port, timeout=TIME_LIMIT_S, context=tls
            )
        else:
            line = smtplib.SMTP(server.host, server.port, timeout=TIME_LIMIT_S)
        with line:
            if server.security == "starttls":
                line.starttls(context=tls)
            if server.user:
                line.login(server.user, password_of(server))
            refused = line.send_message(message)
    except (OSError, smtplib.SMTPException, StoreError) as exc:
        raise NotSent(f"{server.host}:{server.port}: {_words(exc)}") from exc
    if refused:
        raise NotSent(f"{server.host} refused {', '.join(refused)}.")


def _checked(host: str, port: int) -> None:
    """Raises Refused where a name leads to an address that is not allowed."""
    allowed = Allowed(OPTIONS.allowed)
    for found in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM):
        allowed.check(str(found[4][0]))


def _by_call(address: str, secret: str, happenings: Sequence[Happening], now: datetime) -> None:
    url = urlsplit(address)
    at = now.isoformat()
    body = _body_of(happenings)
    headers = {
        "content-type": "application/json",
        "user-agent": f"pinecart/{__version__}",
        "pinecart-time": at,
        "pinecart-signature": signature_of(secret, at, body),
    }
    target = (url.path or "/") + (f"?{url.query}" if url.query else "")
    try:
        status = asyncio.run(_called(f"{url.scheme}://{url.netloc}", target, headers, body))
    except (StoreError, TimeoutError) as exc:
        raise NotSent(f"{url.netloc}: {_words(exc)}") from exc
    if not 200 <= status < 300:
        raise NotSent(f"{url.netloc} answered {status}.")


def _body_of(happenings: Sequence[Happening]) -> bytes:
    """What happened, each with the list of what its run placed."""
    told = []
    for one in happenings:
        placed = placed_by(one.run, MOST_PLACED) if one.run else []
        more = len(placed) == MOST_PLACED
        told.append({**one.payload(console_address()), "placed": placed, "placed_more": more})
    return json.dumps({"notices": told}).encode()


def _by_marker(text: str, happenings: Sequence[Happening]) -> None:
    """Writes an object that tells of them, over the one before."""
    place = parse_location(text, field="to")
    body = _body_of(happenings)
    try:
        record = store_named(place.store)
        store = open_store(spec_of(record))
        asyncio.run(_marked(store, place.path, body))
    except (PinecartError, TimeoutError) as exc:
        words = _words(exc)
        raise NotSent(f"{place}: {words}") from exc


async def _marked(store: Store, key: bytes, body: bytes) -> None:
    try:
        async with asyncio.timeout(TIME_LIMIT_S):
            await store.probe(key.rpartition(b"/")[0] + b"/")
            stamp = WriteStamp("marker", time.time_ns(), crc_of(body))
            before = await _lies_there(store, key)
            await store.put(
                Put(
                    key,
                    len(body),
                    body,
                    stamp,
                    if_absent=before is None,
                    expected=before,
                    content_type="application/json",
                )
            )
    finally:
        await store.close()


async def _lies_there(store: Store, key: bytes) -> Entry | None:
    try:
        return (await store.stat(key)).entry
    except Missing:
        return None


async def _called(endpoint: str, target: str, headers: dict[str, str], body: bytes) -> int:
    """The status of the answer. Only addresses that the service allows are connected to, whatever
    their name resolves to by then.
    """
    transport = Transport(endpoint, allowed=Allowed(OPTIONS.allowed), silence_s=TIME_LIMIT_S)
    try:
        async with asyncio.timeout(TIME_LIMIT_S):
            answer = await transport.ask("POST", target, headers, body, MOST_ANSWER)
    finally:
        await transport.close()
    return answer.status


def _words(exc: Exception) -> str:
    return getattr(exc, "message", "") or str(exc) or type(exc).__name__
