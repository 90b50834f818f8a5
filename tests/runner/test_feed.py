"""What feeds the merge: whatever ends it, the listings behind it are closed."""

from __future__ import annotations

import asyncio

import pytest

from pinecart.core.entries import Entry
from pinecart.runner.listing_streams import merged, nothing


@pytest.mark.parametrize("waits_s", [0.0, 0.002])
async def test_a_merge_given_up_closes_its_listing_at_once(waits_s):
    closed = []

    async def listing():
        try:
            for n in range(10_000):
                await asyncio.sleep(waits_s)
                yield [Entry(b"%06d" % n, 0, None)]
        finally:
            closed.append(True)

    found = merged(listing(), nothing(), nothing())
    for _ in range(20):
        assert await anext(found)
    await found.aclose()
    assert closed
