"""The only door to HTTP: a pool, time limits, verified TLS, and addresses that are refused after resolving.

Keys reach the server byte for byte: what is asked for is an encoded path and query, sent as it stands.
"""

from __future__ import annotations

import ipaddress
import socket
import ssl
from collections.abc import AsyncIterator, Mapping
from contextlib import asynccontextmanager
from datetime import datetime
from email.utils import parsedate_to_datetime
from typing import Any, NamedTuple

import aiohttp
from aiohttp.abc import AbstractResolver, ResolveResult
from aiohttp.resolver import ThreadedResolver
from yarl import URL

from pinecart.core.errors import Busy, Refused, StoreError, Unreachable

CHUNK = 1 << 20


class Answer(NamedTuple):
    status: int
    headers: Mapping[str, str]
    body: bytes


class Allowed(NamedTuple):
    """Which addresses of this machine may be asked, as networks; loopback is refused unless it is in one of them."""

    networks: tuple[str, ...] = ()

    def check(self, address: str) -> None:
        """Raises Refused for link-local, unlisted loopback, and addresses that are no host's."""
        ip = ipaddress.ip_address(address.split("%", maxsplit=1)[0])
        ip = getattr(ip, "ipv4_mapped", None) or ip
        if any(ip in ipaddress.ip_network(n) for n in self.networks):
            return
        if ip.is_loopback or ip.is_link_local or ip.is_unspecified or ip.is_multicast:
            message = f"The address {address} is not allowed: link-local and loopback addresses are refused. "
            message += f"If it is meant, start the service with --allow-address {address}."
            raise Refused(message, code="store.address-refused")


class _CheckedResolver(AbstractResolver):
    def __init__(self, allowed: Allowed) -> None:
        self._inner = ThreadedResolver()
        self._allowed = allowed

    async def resolve(
        self, host: str, port: int = 0, family: socket.AddressFamily = socket.AF_INET
    ) -> list[ResolveResult]:
        found = await self._inner.resolve(host, port, family)
        for each in found:
            self._allowed.check(each["host"])
        return found

    async def close(self) -> None:
        await self._inner.close()


class Transport:
    """Requests to one endpoint (scheme, host, port). Made without touching the network; `close` it."""

    def __init__(
        self, endpoint: str, *, allowed: Allowed, connect_s: float = 10, silence_s: float = 60,
        certificate: str = "", proxy: str = "",
    ) -> None:  # fmt: skip
        self.url = URL(endpoint)
        if self.url.scheme not in ("http", "https") or not self.url.host or self.url.path not in ("", "/"):
            raise Refused(
                f"{endpoint!r} is no endpoint: write it as https://HOST or https://HOST:PORT.", code="store.address"
            )
        self._allowed = allowed
        self._certificate, self._proxy = certificate, proxy or None
        self._timeout = aiohttp.ClientTimeout(total=None, sock_connect=connect_s, sock_read=silence_s)
        self._session: aiohttp.ClientSession | None = None
        self._last_date = ""

    @property
    def host(self) -> str:
        return self.url.authority

    @property
    def is_tls(self) -> bool:
        return self.url.scheme == "https"

    @property
    def last_date(self) -> datetime | None:
        """The Date of the last answer; None if there was none, or it is none."""
        try:
            return parsedate_to_datetime(self._last_date)
        except ValueError:
            return None

    def authority(self, bucket: str = "") -> str:
        """Host and port; with a bucket in front of the host where that is how buckets are addressed."""
        return f"{bucket}.{self.url.authority}" if bucket else self.url.authority

    async def ask(self, method: str, target: str, headers: Mapping[str, str], body: Any = None) -> Answer:
        """One request, the whole answer. target: encoded path and query. Raises Unreachable, Busy, Refused."""
        async with self.streamed(method, target, headers, body) as (status, found, chunks):
            return Answer(status, found, b"".join([c async for c in chunks]))

    @asynccontextmanager
    async def streamed(
        self, method: str, target: str, headers: Mapping[str, str], body: Any = None
    ) -> AsyncIterator[tuple[int, Mapping[str, str], AsyncIterator[bytes]]]:
        """One request, the answer's status and headers, and its body in chunks of at most 1 MiB."""
        url = URL(f"{self.url.scheme}://{headers.get('host', self.url.authority)}{target}", encoded=True)
        try:
            async with self._open().request(
                method,
                url,
                headers=headers,
                data=body,
                allow_redirects=False,
                skip_auto_headers=("Content-Type",),
                proxy=self._proxy,
            ) as answer:
                self._last_date = answer.headers.get("Date", "")
                yield answer.status, answer.headers, answer.content.iter_chunked(CHUNK)
        except StoreError:
            raise
        except aiohttp.ClientConnectorCertificateError as exc:
            raise Unreachable(
                f"{self.host}: its certificate is not trusted ({exc.certificate_error}). Check the address, or give the certificate file.",
                code="store.certificate",
            ) from exc
        except aiohttp.ClientConnectorError as exc:
            cause = exc.__cause__ if isinstance(exc.__cause__, StoreError) else None
            if cause:
                raise cause from exc
            raise Unreachable(
                f"{self.host} can't be reached ({exc.os_error.strerror or exc.os_error}). Check the address, and that it runs."
            ) from exc
        except TimeoutError as exc:
            raise Busy(f"{self.host} did not answer in time. It is tried again.", code="store.silent") from exc
        except (aiohttp.ClientError, OSError) as exc:
            raise Busy(
                f"{self.host}: the line was cut ({type(exc).__name__}). It is tried again.", code="store.cut"
            ) from exc

    def _open(self) -> aiohttp.ClientSession:
        if self._session is None:
            literal = (URL(self._proxy).host if self._proxy else self.url.host) or ""
            if literal.replace(".", "").isdigit() or ":" in literal:
                self._allowed.check(literal)
            verified = ssl.create_default_context(cadata=self._certificate or None)
            connector = aiohttp.TCPConnector(
                limit=128, ssl=verified, resolver=_CheckedResolver(self._allowed), ttl_dns_cache=60
            )
            self._session = aiohttp.ClientSession(
                connector=connector, timeout=self._timeout, auto_decompress=False, read_bufsize=1 << 20
            )
            # aiohttp would repeat a PUT by itself on a cut line, with a stream that is half consumed: we repeat, knowingly.
            self._session._retry_connection = False
        return self._session

    async def close(self) -> None:
        if self._session is not None:
            await self._session.close()
            self._session = None
