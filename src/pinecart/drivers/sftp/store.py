"""The store over SFTP."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pinecart.drivers.remote_tree.store import RemoteTreeStore
from pinecart.drivers.sftp.files import SftpFiles
from pinecart.drivers.sftp.lines import SshServer


class SftpStore(RemoteTreeStore):
    """One server, reached as one user."""

    def __init__(self, spec: Mapping[str, Any]) -> None:
        self._sftp = SftpFiles.from_spec(spec)
        super().__init__(self._sftp, spec)

    def renew(self, spec: Mapping[str, Any]) -> None:
        """Take up a new password or key, from the next line on."""
        self._sftp.renew(SshServer.from_spec(spec))
