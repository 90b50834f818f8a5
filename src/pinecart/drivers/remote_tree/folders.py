"""The folders that files lie in: entered one by one, each seen to be a folder and no link, and made
where they are missing.
"""

from __future__ import annotations

import asyncio
import time

from pinecart.core.errors import Missing, Refused, Taken, Unsafe
from pinecart.core.places import show
from pinecart.drivers.busy_retries import BusyRetries
from pinecart.drivers.remote_tree.links import TreeLinks
from pinecart.drivers.remote_tree.remote_files import FileKind, RemoteFiles

KNOWN_S = 10.0  # so long a folder is taken for one without another look
MOST_KNOWN = 10_000


class TreeFolders:
    """Remembers for a while which ones were seen."""

    def __init__(self, files: RemoteFiles, links: TreeLinks, retries: BusyRetries) -> None:
        """Folders that were seen lately aren't asked for again, and one is made at a time: two who
        make the same one get in each other's way.
        """
        self._files = files
        self._links = links
        self._retries = retries
        self._seen: dict[bytes, float] = {}
        self._one_at_a_time = asyncio.Lock()

    async def enter(self, path: bytes, *, create: bool = False) -> None:
        """Raises Missing, and Unsafe where a part of the path is no folder."""
        if not path or self._is_known(path):
            return
        async with self._one_at_a_time:
            await self._enter(path, create)

    async def _enter(self, path: bytes, create: bool) -> None:
        if not path or self._is_known(path):
            return
        await self._enter(path.rpartition(b"/")[0], create)
        try:
            found = await self._retries.safely(lambda: self._files.look(path))
        except Missing:
            if not create:
                raise
            await self._retries.safely(lambda: self._make(path))
            found = await self._retries.safely(lambda: self._files.look(path))
        if found.kind is FileKind.LINK:
            found = await self._links.followed(path)
        if found.kind is not FileKind.FOLDER:
            self._refuse(path, found.kind, create)
        if len(self._seen) > MOST_KNOWN:
            self._seen.clear()
        self._seen[path] = time.monotonic()

    async def _make(self, path: bytes) -> None:
        try:
            await self._files.make_folder(path)
        except Taken:
            """Somebody made it meanwhile; the look that follows tells what it is."""

    def _refuse(self, path: bytes, kind: FileKind, create: bool) -> None:
        named = f"pine://{self._files.name}/{show(path)}"
        if kind is FileKind.FILE and not create:
            raise Missing(f"{named} is a file: nothing lies below it.")
        if kind is FileKind.LINK:
            raise Unsafe(f"{named} is a link, which is not followed.", code="not-a-file")
        raise Refused(
            f"{named} is a {kind}, so nothing can lie below it.", code="store.not-a-folder"
        )

    def _is_known(self, path: bytes) -> bool:
        seen = self._seen.get(path)
        return seen is not None and time.monotonic() - seen < KNOWN_S

    def forget(self, path: bytes) -> None:
        """It, and what lies below it, was taken away or may have been."""
        below = path + b"/"
        for known in [k for k in self._seen if k == path or k.startswith(below)]:
            del self._seen[known]
