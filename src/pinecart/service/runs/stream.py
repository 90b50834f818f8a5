"""Server-sent events of a run. One poller reads new events for everybody; each stream has its own
queue.

Ids are `EPOCH-NUMBER`: the database's epoch and the event's number. A stream begins with the
present state, unless `Last-Event-ID` is of this epoch and later events are still there.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import time
from collections import Counter
from collections.abc import AsyncIterator, Awaitable, Callable
from typing import Any

from asgiref.sync import sync_to_async
from django.core.serializers.json import DjangoJSONEncoder

from pinecart.json_object import JsonObject
from pinecart.service.runs import presentation, selectors
from pinecart.service.runs.facts import RunFacts

POLL_S, ALIVE_S = 0.25, 5.0
MOST_OF_ONE = 32  # streams of one person
Event = tuple[int, int, str, Any]


class Hub:
    """Fans new events out to all open streams of this process; polls only while there are any."""

    def __init__(self) -> None:
        self._queues: dict[asyncio.Queue[Event], int] = {}
        self.open_of = Counter[str]()
        self._poller: asyncio.Task[None] | None = None
        self._last = 0

    @contextlib.asynccontextmanager
    async def listening(self, run: int, who: str) -> AsyncIterator[asyncio.Queue[Event]]:
        queue: asyncio.Queue[Event] = asyncio.Queue(1000)
        if self._poller is None or self._poller.done():
            self._last = await _sync(selectors.last_event)()
            self._poller = asyncio.create_task(self._poll())
        self._queues[queue] = run
        self.open_of[who] += 1
        try:
            yield queue
        finally:
            self.open_of[who] -= 1
            del self._queues[queue]

    async def _poll(self) -> None:
        while self._queues:
            for event in await _sync(selectors.events_after)(self._last):
                self._last = event[0]
                for queue, run in list(self._queues.items()):
                    if run == event[1] and not queue.full():
                        queue.put_nowait(event)
            await asyncio.sleep(POLL_S)


hub = Hub()


def _sync(call: Any) -> Any:
    return sync_to_async(call, thread_sensitive=False)


async def stream(
    run: RunFacts, who: str, still_allowed: Callable[[], Awaitable[bool]], last_id: str
) -> AsyncIterator[str]:
    """The text of the stream, for a person of this name, until the run has ended or the caller's
    right is gone.
    """
    epoch = await _sync(selectors.database_epoch)()
    async with hub.listening(run.pk, who) as queue:
        seen = await _missed(run, epoch, last_id)
        now = await _present(run)
        yield _text(f"{epoch}-{seen}", "state", now)
        checked = time.monotonic()
        while now["state"] != "ended":
            if time.monotonic() - checked >= ALIVE_S:
                checked = time.monotonic()
                if not await still_allowed():
                    return
            try:
                number, _, kind, payload = await asyncio.wait_for(queue.get(), ALIVE_S)
            except TimeoutError:
                yield ": alive\n\n"
                continue
            if number <= seen:
                continue
            if kind == "state":
                now = payload = await _present(run)
            yield _text(f"{epoch}-{number}", kind, payload)


async def _missed(run: RunFacts, epoch: str, last_id: str) -> int:
    """Where to go on: the id's number if it is of this database, else the newest event."""
    told, _, number = last_id.partition("-")
    last: int = await _sync(selectors.last_event)()
    if told != epoch or not number.isdigit():
        return last
    return min(int(number), last)


async def _present(run: RunFacts) -> JsonObject:
    def told() -> JsonObject:
        return presentation.run_told(selectors.run_of(run.pk))

    found: JsonObject = await _sync(told)()
    return found


def _text(number: str, kind: str, payload: Any) -> str:
    return f"id: {number}\nevent: {kind}\ndata: {json.dumps(payload, cls=DjangoJSONEncoder)}\n\n"
