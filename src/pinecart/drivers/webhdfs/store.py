"""The store over WebHDFS."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from typing import Any

from pinecart.core.entries import Entry
from pinecart.core.ports import OwnSum
from pinecart.drivers.remote_tree.store import RemoteTreeStore
from pinecart.drivers.webhdfs.client import HdfsClient, who_of
from pinecart.drivers.webhdfs.files import HdfsFiles


class HdfsStore(RemoteTreeStore):
    """One file system, reached as one user."""

    def __init__(self, spec: Mapping[str, Any]) -> None:
        self.client = HdfsClient(spec)
        self._hdfs = HdfsFiles(self.client)
        super().__init__(self._hdfs, spec)

    def unfit(self, key: bytes) -> str:
        why = super().unfit(key)
        if why:
            return why
        try:
            text = key.decode()
        except UnicodeDecodeError:
            return f"pine://{self.name}/: it takes only names that are UTF-8 text. Rename the file."
        if ":" in text:
            return f"pine://{self.name}/{text[:200]}: its names have no colon. Rename the file."
        return ""

    async def own_sum(self, key: bytes, expected: Entry) -> OwnSum | None:
        """The file system's own checksum, which depends on its blocks too. None: it is a
        folder. Raises Changed where it was changed meanwhile.
        """
        if expected.is_place:
            return None
        ask = partial(self._hdfs.own_sum, key)
        found = await self._retries.safely(ask)
        now = await self._reader.look(key)
        self._reader.must_be_same(now, expected._replace(key=key))
        return found

    def renew(self, spec: Mapping[str, Any]) -> None:
        """Take up a new token, from the next request on."""
        self.client.who = who_of(spec)

    @property
    def rests_s(self) -> float:
        return self.client.name_node.rests_s

    def rest(self, seconds: float) -> None:
        self.client.name_node.rest(seconds)

    def waits_for(self) -> str:
        return self.client.waits_for() or super().waits_for()
