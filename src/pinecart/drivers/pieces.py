"""Large objects in pieces: how large, and several on their way at once, with the whole's checksum combined from theirs."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable

from pinecart.core.checksum import EMPTY, combine
from pinecart.core.ports import HELD_BYTES

AT_ONCE = 4
MOST_PIECES = 10_000
MIB = 1 << 20


def piece_size(size: int) -> int:
    """HELD_BYTES, or so much more (whole MiB) that `size` bytes fit in 10,000 pieces: 525 MiB for 5 TiB."""
    least = -(-size // MOST_PIECES)
    return max(HELD_BYTES, -(-least // MIB) * MIB)


async def each_piece(size: int, step: int, carry: Callable[[int, int, int], Awaitable[str]]) -> str:
    """Call `carry(number, start, length)` for all pieces, AT_ONCE at a time; it gives each piece's CRC. The whole's CRC, or ""
    where one is not known.

    The first error ends all, and is raised as it is.
    """
    starts = list(range(0, size, step))
    found: dict[int, str] = {}
    todo = iter(list(enumerate(starts)))

    async def work() -> None:
        for number, start in todo:
            found[number] = await carry(number, start, min(step, size - start))

    tasks = [asyncio.create_task(work()) for _ in range(min(AT_ONCE, len(starts)))]
    try:
        await asyncio.gather(*tasks)
    finally:
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
    if not all(found.values()):
        return ""
    crc = EMPTY
    for number, start in enumerate(starts):
        crc = combine(crc, found[number], min(step, size - start))
    return crc
