"""So much may be held in memory at once."""

from __future__ import annotations

import asyncio
from collections import deque


class ByteBudget:
    """So many bytes may be held at once; who wants more waits.

    First come, first served. For one event loop.
    """

    def __init__(self, size: int) -> None:
        self._free = size
        self._waiting: deque[tuple[int, asyncio.Future[None]]] = deque()

    def took(self, size: int) -> bool:
        """Take them, if that needs no waiting."""
        if self._waiting or self._free < size:
            return False
        self._free -= size
        return True

    async def wait_for(self, size: int) -> None:
        turn = asyncio.get_running_loop().create_future()
        self._waiting.append((size, turn))
        try:
            await turn
        except asyncio.CancelledError:
            if turn.done() and not turn.cancelled():
                self.give(size)
            raise

    def give(self, size: int) -> None:
        """Bytes that are held no longer. Who waits is served in turn, so that a large file isn't
        overtaken for ever by small ones.
        """
        self._free += size
        while self._waiting and (
            self._waiting[0][1].cancelled() or self._free >= self._waiting[0][0]
        ):
            wanted, turn = self._waiting.popleft()
            if not turn.cancelled():
                self._free -= wanted
                turn.set_result(None)
