"""Links of a remote tree: refused, skipped, followed inside the root, or kept as links."""

from __future__ import annotations

from typing import cast

from pinecart.core.errors import Missing, Refused
from pinecart.drivers.remote_tree.remote_files import FileKind, FileLook, RemoteFiles, RemoteLinks


class TreeLinks:
    """rule: "refuse", "skip", "follow" or "keep".

    A protocol without links never finds any.
    """

    def __init__(self, files: RemoteFiles, rule: str) -> None:
        self._files = files
        self.rule = rule
        self._root = b""

    @property
    def _server(self) -> RemoteLinks:
        return cast("RemoteLinks", self._files)

    async def followed(self, path: bytes) -> FileLook:
        """What a link leads to, where it is followed and stays in the root; else the link."""
        a_link = FileLook(FileKind.LINK)
        if self.rule != "follow":
            return a_link
        try:
            if await self.real(path) is None:
                return a_link
            return await self._server.look_through(path)
        except (Missing, Refused):  # it leads nowhere, or where nobody may look
            return a_link

    async def real(self, path: bytes) -> bytes | None:
        """Where a path leads in the end, all links followed; None: out of the root, where
        nothing may be read or written.
        """
        if not self._root:
            root = await self._server.real_path(b"")
            self._root = root.rstrip(b"/") + b"/"
        real = await self._server.real_path(path)
        is_inside = (real + b"/").startswith(self._root)
        if is_inside:
            return real
        return None

    async def text(self, path: bytes) -> bytes:
        return await self._server.link_text(path)

    async def make(self, path: bytes, text: bytes) -> None:
        await self._server.make_link(path, text)
