"""The store over WebHDFS."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pinecart.drivers.remote_tree.store import RemoteTreeStore
from pinecart.drivers.webhdfs.client import HdfsClient, who_of
from pinecart.drivers.webhdfs.files import HdfsFiles


class HdfsStore(RemoteTreeStore):
    """One file system, reached as one user."""

    def __init__(self, spec: Mapping[str, Any]) -> None:
        self.client = HdfsClient(spec)
        super().__init__(HdfsFiles(self.client), spec)

    def unfit(self, key: bytes) -> str:
        if why := super().unfit(key):
            return why
        try:
            text = key.decode()
        except UnicodeDecodeError:
            return f"pine://{self.name}/: it takes only names that are UTF-8 text. Rename the file."
        if ":" in text:
            return f"pine://{self.name}/{text[:200]}: its names have no colon. Rename the file."
        return ""

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
