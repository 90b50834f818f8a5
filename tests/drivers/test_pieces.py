"""Pieces of a large object, some of which others carry: whoever fails, each is there once in the
end, and the sum is the whole's.
"""

from __future__ import annotations

import asyncio
import random

import pytest
from hypothesis import given
from hypothesis import strategies as some

from pinecart.core.checksum import crc_of
from pinecart.core.errors import Busy
from pinecart.drivers.pieces import AT_ONCE, each_piece

BODY = random.Random(1).randbytes(4321)


async def test_who_is_told_to_end_in_the_moment_of_an_error_ends():
    """Else its worker would go on, and whoever waits for its end would wait for ever."""

    async def carry(number, start, size):
        if number:
            await asyncio.Event().wait()
        await asyncio.sleep(0)
        asyncio.get_running_loop().call_soon(task.cancel)
        raise Busy("The line was cut.")

    task = asyncio.create_task(each_piece(len(BODY), 500, carry))
    with pytest.raises(asyncio.CancelledError):
        await task


@given(step=some.integers(20, 900), rooms=some.integers(0, 5), seed=some.integers(0, 99))
def test_what_others_bring_back_uncarried_is_carried_here(step, rooms, seed):
    chance, busy, asked, here, there = random.Random(seed), 0, [], [], []

    async def carry(number, start, size):
        await asyncio.sleep(0)
        here.append(number)
        return crc_of(BODY[start : start + size])

    async def other(numbers):
        nonlocal busy
        for _ in range(chance.randrange(9)):
            await asyncio.sleep(0)
        done = [n for n in numbers if chance.random() < 0.7]
        there.extend(done)
        busy -= 1
        return {n: crc_of(BODY[n * step : (n + 1) * step]) for n in done}

    def free():
        nonlocal busy
        if busy >= rooms:
            return None
        busy += 1
        asked.append(busy)
        return other

    pieces = -(-len(BODY) // step)
    assert asyncio.run(each_piece(len(BODY), step, carry, free)) == crc_of(BODY)
    assert sorted(here + there) == list(range(pieces)) and busy == 0
    assert bool(asked) == bool(rooms and pieces > 2 * AT_ONCE)


async def test_an_error_of_ours_ends_what_others_do():
    ended = []

    async def carry(number, start, size):
        await asyncio.sleep(0.01)
        raise OSError("the disk")

    async def other(numbers):
        try:
            await asyncio.Event().wait()
        finally:
            ended.append(numbers)
        return {}

    others = iter([other])
    with pytest.raises(OSError, match="the disk"):
        await asyncio.wait_for(each_piece(len(BODY), 20, carry, lambda: next(others, None)), 5)
    assert len(ended) == 1
