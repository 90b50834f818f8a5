"""Containers are made, and dropped when they are empty."""

from __future__ import annotations

from pinecart.core.errors import Refused
from pinecart.drivers.swift.client import SwiftClient


class SwiftContainers:
    def __init__(self, client: SwiftClient) -> None:
        self._client = client

    async def make(self, name: str) -> bool:
        """False: it was there."""
        answer = await self._client.ask("PUT", name)
        if answer.status not in (201, 202):
            what = f"Making container {name!r} at {self._client.name}"
            raise self._client.error_of(answer, what=what)
        return answer.status == 201

    async def drop(self, name: str) -> None:
        where = f"container {name!r} at {self._client.name}"
        answer = await self._client.ask("DELETE", name)
        if answer.status == 409:  # something came meanwhile
            message = f"The {where} is not empty."
            raise Refused(message, code="bucket.not-empty")
        if answer.status != 204:
            what = f"Dropping {where}"
            raise self._client.error_of(answer, what=what)
