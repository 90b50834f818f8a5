"""OpenStack Swift: one account, signed in as one user."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pinecart.core.entries import Entry
from pinecart.core.errors import Changed
from pinecart.core.ports import OwnSum
from pinecart.drivers.bucketed.bucket_facts import UNTRIED, BucketFacts
from pinecart.drivers.bucketed.store import BucketStore, Machines
from pinecart.drivers.bucketed.writing import ObjectWriter
from pinecart.drivers.swift.buckets import SwiftContainers
from pinecart.drivers.swift.client import client_from
from pinecart.drivers.swift.conditional import SwiftWrites
from pinecart.drivers.swift.listing import SwiftLister
from pinecart.drivers.swift.probing import SwiftProber
from pinecart.drivers.swift.removal import SwiftRemover
from pinecart.drivers.swift.segments import Segments
from pinecart.drivers.swift.server_copy import SwiftCopies
from pinecart.drivers.swift.writing import MOST_SEGMENTS, SwiftSegments, SwiftWhole


class SwiftStore(BucketStore):
    kind = "swift"

    def __init__(self, spec: Mapping[str, Any]) -> None:
        client = client_from(spec)
        facts = BucketFacts.learned_before(spec, UNTRIED._replace(checksum="md5"))
        lister = SwiftLister(client, facts)
        segments = Segments(client, lister)
        writes = SwiftWrites(client, facts, lister, segments)
        prober = SwiftProber(client, facts, lister)
        parts = SwiftSegments(client, writes, segments, prober)
        remover = SwiftRemover(client, lister, segments)
        machines = Machines(
            lister,
            ObjectWriter(
                client,
                facts,
                SwiftWhole(client, facts, writes),
                parts,
                most_parts=MOST_SEGMENTS,
            ),
            parts,
            SwiftCopies(client, writes, parts, remover),
            remover,
            prober,
            SwiftContainers(client),
        )
        super().__init__(client, facts, machines)
        self._swift = client

    async def own_sum(self, key: bytes, expected: Entry) -> OwnSum | None:
        """The MD5 that Swift makes of an object in one piece. Of one of segments it tells only
        those of the segments, however they were cut.
        """
        stat, headers = await self._swift.look(key, expected.version)
        if (stat.entry.size, stat.entry.etag) != (expected.size, expected.etag):
            raise Changed(f"{self._swift.named(key)} changed while it was looked at.")
        md5 = self._swift.told(headers).md5
        if md5:
            return OwnSum("md5", md5)
        return None
