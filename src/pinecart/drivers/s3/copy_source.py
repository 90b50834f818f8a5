"""What a store is to copy by itself."""

from __future__ import annotations

from pinecart.core.entries import Entry
from pinecart.core.errors import Changed
from pinecart.core.ports import Stat
from pinecart.drivers.s3.client import S3Client
from pinecart.drivers.s3.signing import encoded_path


class CopySource:
    """An object as it was when its copy was planned. path: as a header has it."""

    def __init__(self, client: S3Client, key: bytes, planned: Entry, version: str) -> None:
        """version: of those that are kept; empty: the one that is there now.   planned: the entry
        that it must still be when it is copied.
        """
        self._client = client
        self._key = key
        self._planned = planned
        self._version = version
        # without a slash before it: some servers take one for a part of the bucket's name
        self.path = encoded_path(*client.split(key)).removeprefix("/")
        if version:
            self.path += f"?versionId={version}"

    async def must_be_as_planned(self) -> Stat:
        """What it is now. Raises Changed, Missing."""
        now = await self._client.stat(self._key, self._version)
        if now.entry.etag != self._planned.etag:
            named = self._client.named(self._key)
            raise Changed(f"{named} changed before it was copied.")
        return now
