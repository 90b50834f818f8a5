"""The store over SMB."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pinecart.drivers.remote_tree.store import RemoteTreeStore
from pinecart.drivers.smb.files import SmbFiles
from pinecart.drivers.smb.lines import SmbServer
from pinecart.drivers.smb.wire import why_unfit


class SmbStore(RemoteTreeStore):
    """One share, reached as one user."""

    def __init__(self, spec: Mapping[str, Any]) -> None:
        self.smb = SmbFiles.from_spec(spec)
        super().__init__(self.smb, spec)

    def unfit(self, key: bytes) -> str:
        return super().unfit(key) or why_unfit(key.removesuffix(b"/"), self.name)

    def renew(self, spec: Mapping[str, Any]) -> None:
        """Take up a new password, from the next line on."""
        self.smb.lines.renew(SmbServer.from_spec(spec))
