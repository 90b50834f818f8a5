"""Large objects in pieces: how large, and several on their way at once, with the whole's checksum
combined from theirs.
"""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping

from pinecart.core.checksum import EMPTY, combine
from pinecart.core.ports import HELD_BYTES, Reading

AT_ONCE = 4
MOST_PIECES = 10_000
GIVEN_BYTES = 1 << 30  # what others carry of it at once
MIB = 1 << 20


def piece_size(size: int, most: int = MOST_PIECES) -> int:
    """HELD_BYTES, or so much more (whole MiB) that `size` bytes fit in `most` pieces: 525 MiB for 5
    TiB.
    """
    least = -(-size // most)
    return max(HELD_BYTES, -(-least // MIB) * MIB)


async def in_pieces(source: Reading, start: int, size: int) -> AsyncIterator[bytes]:
    """A range of a large object, by HELD_BYTES."""
    for at in range(start, start + size, HELD_BYTES):
        yield await source.piece(at, min(HELD_BYTES, start + size - at))


async def all_of(*work: Awaitable[None]) -> None:
    """Wait for all; the first error is raised. `asyncio.gather` alone loses a cancellation that
    comes in the moment of an error, and its task goes on as if nobody had asked it to end.
    """
    this = asyncio.current_task()
    assert this is not None
    asked_before = this.cancelling()
    try:
        await asyncio.gather(*work)
    except Exception:
        if this.cancelling() > asked_before:
            raise asyncio.CancelledError from None
        raise


# Has others carry the pieces of these numbers: number → CRC. What is missing wasn't carried.
Give = Callable[[list[int]], Awaitable[Mapping[int, str]]]


async def each_piece(
    size: int,
    step: int,
    carry: Callable[[int, int, int], Awaitable[str]],
    free: Callable[[], Give | None] = lambda: None,
    at_once: int = AT_ONCE,
) -> str:
    """Call `carry(number, start, length)` for all pieces, some at once; it gives each piece's
    CRC. The whole's CRC, or "" where one is not known.

    free: who has room for some of them, asked before each piece; what comes back uncarried is
    carried here after all. The first error ends all, and is raised as it is.
    """
    starts = list(range(0, size, step))
    found: dict[int, str] = {}
    todo = deque(range(len(starts)))
    out = set[asyncio.Task[None]]()
    tasks = list[asyncio.Task[None]]()

    async def work() -> None:
        while todo:
            while len(todo) > 2 * AT_ONCE and (give := free()):
                count = min(
                    len(todo) // (2 * (len(out) + 2)), GIVEN_BYTES // step
                )  # ever fewer, so that all end together
                out.add(
                    task := asyncio.create_task(given(give, [todo.pop() for _ in range(count)]))
                )
                task.add_done_callback(out.discard)
                tasks.append(task)
            number = todo.popleft()
            found[number] = await carry(number, starts[number], min(step, size - starts[number]))

    async def given(give: Give, numbers: list[int]) -> None:
        found.update(await give(numbers))
        todo.extend(number for number in numbers if number not in found)

    try:
        while todo or out:
            own = [asyncio.create_task(work()) for _ in range(min(at_once, len(todo)))]
            tasks += own
            await all_of(*own, *out)
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
