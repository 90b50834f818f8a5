"""S3-compatible object stores, whatever the maker: signs, lists, reads and writes by itself, one
request an object.
"""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from typing import Any

from pinecart.core.errors import Refused
from pinecart.drivers.bucketed.bucket_facts import BucketFacts
from pinecart.drivers.bucketed.probing import PROBE
from pinecart.drivers.bucketed.store import BucketStore, Machines
from pinecart.drivers.bucketed.writing import ObjectWriter
from pinecart.drivers.s3.buckets import BucketKeeper
from pinecart.drivers.s3.client import S3Client, client_from
from pinecart.drivers.s3.conditional import ConditionalWrites
from pinecart.drivers.s3.listing import Lister
from pinecart.drivers.s3.parts import S3Parts
from pinecart.drivers.s3.probing import S3Prober
from pinecart.drivers.s3.removal import ObjectRemover
from pinecart.drivers.s3.server_copy import ServerCopy
from pinecart.drivers.s3.sizes import Sizes
from pinecart.drivers.s3.writing import S3Whole


class S3Store(BucketStore):
    kind = "s3"

    def __init__(self, client: S3Client, facts: BucketFacts, sizes: Sizes = Sizes()) -> None:
        """One machine for each story; they share the client, and what is known of each bucket."""
        lister = Lister(client, facts)
        prober = S3Prober(client, facts, lister)
        writes = ConditionalWrites(client, facts, prober)
        whole = S3Whole(client, facts, writes)
        parts = S3Parts(client, facts, writes, prober)
        machines = Machines(
            lister,
            ObjectWriter(client, facts, whole, parts, part=sizes.part),
            parts,
            ServerCopy(client, facts, writes, parts, sizes, prober),
            ObjectRemover(client, facts, lister),
            prober,
            BucketKeeper(client),
        )
        super().__init__(client, facts, machines)

    async def clear_uploads(self, key: bytes, since: str) -> int:
        """A probe may have been an upload, too."""
        cleared = await super().clear_uploads(key, since)
        if PROBE in key:
            with contextlib.suppress(Refused):  # who may not look for them leaves some bytes
                cleared += await self._machines.parts.clear(key, since)
        return cleared

    @classmethod
    def from_spec(cls, spec: Mapping[str, Any]) -> S3Store:
        return cls(client_from(spec), BucketFacts.learned_before(spec))
