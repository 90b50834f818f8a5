"""Blob storage, whoever serves it: one account, reached with one set of credentials."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pinecart.drivers.blob.buckets import ContainerKeeper
from pinecart.drivers.blob.client import client_from
from pinecart.drivers.blob.conditional import BlobWrites
from pinecart.drivers.blob.listing import BlobLister
from pinecart.drivers.blob.probing import BlobProber
from pinecart.drivers.blob.removal import BlobRemover
from pinecart.drivers.blob.server_copy import BlobCopies
from pinecart.drivers.blob.writing import BlobBlocks, BlobWhole
from pinecart.drivers.bucketed.bucket_facts import UNTRIED, BucketFacts
from pinecart.drivers.bucketed.store import BucketStore, Machines
from pinecart.drivers.bucketed.writing import ObjectWriter


class BlobStore(BucketStore):
    kind = "blob"

    def __init__(self, spec: Mapping[str, Any]) -> None:
        client = client_from(spec)
        facts = BucketFacts.learned_before(spec, UNTRIED._replace(lists_ranges=False))
        lister = BlobLister(client, facts)
        writes = BlobWrites(client, facts)
        prober = BlobProber(client, facts, lister)
        whole = BlobWhole(client, facts, writes)
        blocks = BlobBlocks(client, facts, writes, prober)
        machines = Machines(
            lister,
            ObjectWriter(client, facts, whole, blocks),
            blocks,
            BlobCopies(client, writes),
            BlobRemover(client, facts),
            prober,
            ContainerKeeper(client),
        )
        super().__init__(client, facts, machines)
