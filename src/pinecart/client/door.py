"""The one door to the service: requests, answers, errors by name."""

from __future__ import annotations

import ssl
from collections.abc import Iterator
from functools import cache
from types import TracebackType
from typing import Any, Self

import httpx
from httpx_sse import EventSource

from pinecart.client.errors import ClientError, ServiceUnreachable, TooSlow, from_answer
from pinecart.json_object import JsonObject


class ApiDoor:
    """A service at `url`, asked with a bearer token."""

    def __init__(
        self,
        url: str,
        token: str = "",
        *,
        timeout_s: float = 30,
        transport: httpx.BaseTransport | None = None,
    ) -> None:
        """transport: another way to the service than the network."""
        self.url = url.rstrip("/")
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        self._timeout_s = timeout_s
        self.http = httpx.Client(
            base_url=f"{self.url}/api/v1/",
            headers=headers,
            timeout=timeout_s,
            transport=transport,
            verify=True if self.url.startswith("https:") else _trusts_nobody(),
        )

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, exc: BaseException | None, tb: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        self.http.close()

    def ask(
        self, method: str, path: str, *, params: JsonObject | None = None, body: Any = None
    ) -> Any:
        try:
            answer = self.http.request(method, path, params=params, json=body)
        except (httpx.ReadTimeout, httpx.WriteTimeout, httpx.PoolTimeout) as exc:
            raise TooSlow(_slow(self.url, self._timeout_s), code="service.slow") from exc
        except httpx.HTTPError as exc:
            message = (
                f"No Pine Cart service answers at {self.url} ({type(exc).__name__}). Is it "
                "running? Start it with: pinecart serve"
            )
            raise ServiceUnreachable(message, code="service.unreachable") from exc
        must_be_good(answer)
        if answer.content:
            return json_of(answer)
        return None

    def pieces(self, call: str, /, **params: Any) -> Iterator[bytes]:
        """A long answer, as it comes."""
        with self.http.stream("GET", call, params=params) as answer:
            must_be_good(answer)
            yield from answer.iter_bytes()

    def events(self, number: int, last_id: str) -> Iterator[tuple[str, str, JsonObject]]:
        """Id, kind and what it tells; those after `last_id`."""
        headers = {"Last-Event-ID": last_id} if last_id else {}
        asking = self.http.stream("GET", f"runs/{number}/events", headers=headers)
        with asking as answer:
            must_be_good(answer)
            source = EventSource(answer)
            for event in source.iter_sse():
                if event.data:  # a comment that keeps the line alive comes as an empty event
                    payload = event.json()
                    yield event.id, event.event, payload


@cache
def _trusts_nobody() -> ssl.SSLContext:
    """For plain HTTP, which has no use for the authorities: to load them takes longer than most
    calls.
    """
    return ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)


def _slow(url: str, seconds: float) -> str:
    return (
        f"The service at {url} has not answered within {seconds:.0f} s. What was asked may still "
        "be done: look before you ask again."
    )


def must_be_good(answer: httpx.Response) -> None:
    """Raises the error of what the service refused."""
    if answer.status_code >= 400:
        answer.read()
        raise from_answer(answer.status_code, json_of(answer))


def json_of(answer: httpx.Response) -> Any:
    try:
        return answer.json()
    except ValueError as exc:
        if answer.status_code >= 400:
            return {}
        raise ClientError(
            f"{answer.url} does not answer as Pine Cart does.", code="service.not-ours"
        ) from exc
