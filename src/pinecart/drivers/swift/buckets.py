"""Containers are made, and dropped when they are empty."""

from __future__ import annotations

from pinecart.core.errors import Refused
from pinecart.drivers.swift.client import SwiftClient
from pinecart.drivers.swift.listing import SwiftLister


class SwiftContainers:
    def __init__(self, client: SwiftClient, lister: SwiftLister) -> None:
        self._client, self._lister = client, lister

    async def make(self, name: str) -> bool:
        answer = await self._client.ask("PUT", name)
        if answer.status not in (201, 202):
            what = f"Making container {name!r} at {self._client.name}"
            raise self._client.error_of(answer, what=what)
        return answer.status == 201

    async def drop(self, name: str) -> None:
        page = await self._lister.page(name, b"", [("limit", "1")])
        where = f"container {name!r} at {self._client.name}"
        if page.last:
            message = f"The {where} is not empty. Only an empty one is dropped."
            raise Refused(message, code="bucket.not-empty")
        answer = await self._client.ask("DELETE", name)
        if answer.status == 409:
            message = f"The {where} is not empty. Only an empty one is dropped."
            raise Refused(message, code="bucket.not-empty")
        if answer.status != 204:
            raise self._client.error_of(answer, what=f"Dropping {where}")
