"""The store over WebDAV."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pinecart.core.entries import Entry
from pinecart.core.errors import Refused
from pinecart.core.ports import Placed, Put, Store
from pinecart.drivers.remote_tree.facts import TreeFacts
from pinecart.drivers.remote_tree.store import RemoteTreeStore
from pinecart.drivers.webdav.client import DavClient, sign_in_of
from pinecart.drivers.webdav.files import DavFiles


class DavStore(RemoteTreeStore):
    """One server, reached as one user."""

    def __init__(self, spec: Mapping[str, Any]) -> None:
        self.client = DavClient.from_spec(spec)
        self.dav = DavFiles(self.client)
        self._reaches = (spec["url"], spec.get("user"), spec.get("token"))
        super().__init__(self.dav, spec)

    def _take_in(self, facts: TreeFacts) -> None:
        super()._take_in(facts)
        self.dav.unheld = facts.unheld

    def unfit(self, key: bytes) -> str:
        return super().unfit(key) or self.dav.why_unheld(key)

    def renew(self, spec: Mapping[str, Any]) -> None:
        """Take up a new password or token, from the next request on."""
        self.client.sign_in = sign_in_of(spec)

    @property
    def rests_s(self) -> float:
        return self.client.transport.rests_s

    def rest(self, seconds: float) -> None:
        self.client.transport.rest(seconds)

    def waits_for(self) -> str:
        return self.client.transport.waits_for(self.name) or super().waits_for()

    def copies_from(self, source: Store) -> bool:
        return isinstance(source, DavStore) and source._reaches == self._reaches

    async def copy(
        self, put: Put, source: Store, source_key: bytes, entry: Entry, version: str = ""
    ) -> Placed | None:
        """What was copied is read back like anything else; None: its checksum isn't known, so
        that it has to come to us in any case; or this server won't.
        """
        if not put.card.crc:
            return None
        assert isinstance(source, DavStore)
        seen = await source._reader.must_still_be(source_key, entry)
        is_guarded = seen.is_firm and self._renames.conditions

        async def copied(hidden: bytes) -> None:
            await self.dav.copy(source_key, hidden, seen if is_guarded else None)
            if not is_guarded:
                await source._reader.must_still_be(source_key, entry)

        try:
            return await self._retries.once(lambda: self._writer.put_copied(put, copied))
        except Refused:
            return None
