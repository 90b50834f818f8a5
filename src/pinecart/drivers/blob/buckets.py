"""Containers are made, and dropped when they are empty."""

from __future__ import annotations

from pinecart.drivers.blob.client import BlobClient
from pinecart.drivers.blob.wire_errors import code_of
from pinecart.drivers.bucketed.client import Query

CONTAINER: Query = [("restype", "container")]


class ContainerKeeper:
    def __init__(self, client: BlobClient) -> None:
        self._client = client

    async def make(self, name: str) -> bool:
        """False: it was there before. The service says so with the same status as for one that is
        just being removed, so that its code is looked at.
        """
        answer = await self._client.ask("PUT", name, query=CONTAINER)
        if answer.status == 409 and code_of(answer.headers, answer.body) == (
            "ContainerAlreadyExists"
        ):
            return False
        if answer.status != 201:
            what = f"Making container {name!r} at {self._client.name}"
            raise self._client.error_of(answer, what=what)
        return True

    async def drop(self, name: str) -> None:
        what = f"Dropping container {name!r} at {self._client.name}"
        await self._client.good("DELETE", name, query=CONTAINER, what=what, ok=202)
