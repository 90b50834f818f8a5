"""Many jobs at once, as many as `width` says now, with a bounded queue before them so that planning
can't run far ahead.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections import deque
from collections.abc import Awaitable, Callable
from types import TracebackType

from pinecart.runner.concurrency import ConcurrencyController

Work = Callable[[], Awaitable[None]]
MOST_PUT_BY = 10_000


class Pool:
    """Use as `async with`. An unexpected error of one job ends the whole: it is raised by `add`,
    `drain` or at the end.

    At most half of the places go to large jobs, so that small ones never wait behind a row of them;
    large ones that find no place are put by, and come next.
    """

    def __init__(self, width: ConcurrencyController, *, waiting: int = 1000) -> None:
        self._width = width
        self._queue: asyncio.Queue[tuple[Work, bool]] = asyncio.Queue(waiting)
        self._put_by: deque[Work] = deque()
        self._large = 0
        self._failed: asyncio.Future[None] | None = None
        self._seen = width.now
        self._tasks: list[asyncio.Task[None]] = []
        self._wake: list[asyncio.Event] = []

    async def __aenter__(self) -> Pool:
        self._failed = asyncio.get_running_loop().create_future()
        self._grow()
        return self

    def _grow(self) -> None:
        """More workers as more are wanted. Those that are too many now sleep, and are woken when
        they are wanted again.
        """
        wanted = self._width.now
        while len(self._tasks) < wanted:
            number = len(self._tasks)
            task = asyncio.create_task(self._work(number))
            self._tasks.append(task)
            self._wake.append(asyncio.Event())
        for event in self._wake[:wanted]:
            event.set()

    async def __aexit__(
        self, kind: type[BaseException] | None, exc: BaseException | None, tb: TracebackType | None
    ) -> None:
        """Workers that still work are cancelled. What failed was raised to whoever added work, or
        is raised by now.
        """
        for task in self._tasks:
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)
        if self._failed is not None and self._failed.done() and exc is not None:
            with contextlib.suppress(BaseException):  # raised already, by add or drain
                self._failed.result()

    async def add(self, work: Work, *, large: bool = False) -> None:
        if not self.took(work, large=large):
            await self._or_failed(self._queue.put((work, large)))

    def took(self, work: Work, *, large: bool) -> bool:
        """Take it, if that needs no waiting."""
        if self._failed is None or self._failed.done():
            return False
        if self._queue.full():
            return False
        self._queue.put_nowait((work, large))
        return True

    async def drain(self) -> None:
        """Wait until everything that was added is done, what the jobs added themselves included."""
        await self._or_failed(self._queue.join())

    async def _or_failed(self, wanted: Awaitable[None]) -> None:
        """Waits, but not for what can't come any more. Raises what a worker failed with."""
        assert self._failed is not None
        task = asyncio.ensure_future(wanted)
        await asyncio.wait([task, self._failed], return_when=asyncio.FIRST_COMPLETED)
        if self._failed.done():
            task.cancel()
            self._failed.result()

    async def _work(self, number: int) -> None:
        """At most half of the workers have large ones in hand, so that small ones never wait behind
        a row of them. Those put by come when one is done.
        """
        while True:
            if number >= self._width.now:
                self._wake[number].clear()
                await self._wake[number].wait()
            if self._queue.empty():
                work, large = await self._queue.get()
            else:
                work, large = self._queue.get_nowait()
            if (
                large
                and self._large >= max(1, self._width.now // 2)
                and len(self._put_by) < MOST_PUT_BY
            ):
                self._put_by.append(work)
                continue
            self._large += large
            await self._do(work)
            while large and self._put_by and (number < self._width.now or self._large == 1):
                await self._do(self._put_by.popleft())
            self._large -= large

    async def _do(self, work: Work) -> None:
        try:
            await work()
        except Exception as exc:  # noqa: BLE001 - handed to whoever waits
            if self._failed is not None and not self._failed.done():
                self._failed.set_exception(exc)
        finally:
            self._queue.task_done()
            if self._width.now != (before := self._seen):
                self._seen = self._width.now
                if self._seen > before:
                    self._grow()
        this = asyncio.current_task()
        if this is not None and this.cancelling():
            raise asyncio.CancelledError  # the job has lost it, in the moment of an error
