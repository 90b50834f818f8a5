"""A long listing read in several ranges at once is the listing, whatever the cuts."""

from __future__ import annotations

import random

import pytest

from pinecart.core.errors import Incomplete
from pinecart.core.listing import Ascending
from pinecart.runner.ranges import in_ranges
from pinecart.runner.side import Side
from pinecart.standins.bucket_behaviour import Behaviour


async def told(side, cuts):
    async def given():
        return cuts

    check, found = Ascending("test"), []
    async for page in in_ranges(side, given):
        found += [e.key for e in check.check(page)]
    return found


@pytest.mark.parametrize("seed", range(4))
async def test_ranges_give_every_key_once_and_in_order(office, seed):
    server, opened = office
    chance = random.Random(seed)
    keys = {f"in/{chance.choice('abcdefgh')}/{chance.randrange(10**6)}" for _ in range(4500)} | {
        "in-old/x",
        "in",
    }
    for key in keys:
        server.shelf.put("dawn", key, b"", {})
    wanted = sorted(k[3:].encode() for k in keys if k.startswith("in/"))
    side = Side(opened(), b"dawn/in/")
    cuts = sorted([*chance.sample(wanted, 5), b"a", b"c/5", b"nothing here", b"zzz"])
    assert (
        await told(side, cuts)
        == wanted
        == await told(side, [])
        == await told(side, wanted[999::1000])
    )


async def test_ranges_are_read_at_once_and_a_fault_in_any_is_raised(office):
    server, opened = office
    for n in range(6000):
        server.shelf.put("dawn", f"f{n % 12:02}/{n:05}", b"", {})
    store = opened()
    listing, asked = store.list, [0, 0]  # pages awaited now, and at most

    async def counted(*args, **kwargs):
        pages, page = listing(*args, **kwargs), []
        while page is not None:
            asked[0] += 1
            asked[1] = max(asked)
            try:
                page = await anext(pages, None)
            finally:
                asked[0] -= 1
            if page is not None:
                yield page

    store.list = counted
    side = Side(store, b"dawn/")
    server.behaviour["list"] = Behaviour(delay_s=0.1)
    assert len(await told(side, [])) == 6000
    assert asked[1] >= 8  # one after another: never more than one
    server.old = frozenset({"listing-unordered"})
    with pytest.raises(Incomplete):
        await told(side, [])
