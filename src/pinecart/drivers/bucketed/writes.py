"""What all writes to stores of buckets have in common: what is looked at before and after."""

from __future__ import annotations

from pinecart.core.entries import Entry
from pinecart.core.errors import Corrupt, Missing, Taken
from pinecart.core.ports import Placed, Put
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.client import BucketClient


class ObjectWrites:
    def __init__(self, client: BucketClient, facts: BucketFacts) -> None:
        self._any_client = client
        self._facts = facts

    async def must_be_as_planned(self, put: Put) -> None:
        """Where no condition guards that. Raises Taken."""
        client = self._any_client
        if put.expected is not None:
            try:
                there = (await client.stat(put.key)).entry
            except Missing:
                there = None
            self.must_be_expected(put, there)
        elif put.if_absent and not await client.is_absent(put.key):
            named = client.named(put.key)
            raise Taken(f"{named} appeared there meanwhile. The next run looks again.")

    def must_be_expected(self, put: Put, there: Entry | None) -> None:
        """Raises Taken where something else is to be replaced than lies there. there: None: nothing
        does.
        """
        if put.expected is not None and (there is None or there.etag != put.expected.etag):
            raise Taken(
                f"{self._any_client.named(put.key)} is not as it was when this was planned. The "
                "next run looks again."
            )

    async def placed(
        self, put: Put, etag: str, crc: str, proof: str, *, guarded: bool, looks: bool = False
    ) -> Placed:
        """etag: as the answer told it. Where it told none it is looked up, else the next run would
        take it for another object; and the size, where that is all the proof, or `looks`. Raises
        Corrupt.
        """
        known = etag.strip('"')
        if not known or looks or proof == "size-only":
            there = (await self._any_client.stat(put.key)).entry
            known = known or there.etag
            if there.size != put.size:
                told = f"{put.size} bytes were sent, {there.size} are there"
                raise Corrupt(f"{self._any_client.named(put.key)}: {told}.")
        entry = Entry(put.key, put.size, None, known)
        return Placed(entry, proof, guarded, crc, await self.lost(put))

    async def lost(self, put: Put) -> str:
        """Which headers of the object its bucket did not keep: looked at once for each header, and
        remembered.
        """
        if not put.headers:
            return ""
        bucket, _ = self._any_client.split(put.key)
        kept = self._facts.kept.setdefault(bucket, set())
        drops = self._facts.dropped.setdefault(bucket, set())
        unknown = put.headers.keys() - kept - drops
        if unknown:
            there = (await self._any_client.stat(put.key)).headers
            for name in unknown:
                (kept if there.get(name) == put.headers[name] else drops).add(name)
        return ", ".join(sorted(put.headers.keys() & drops))
