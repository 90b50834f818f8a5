"""Server-sent events of a run. One poller reads new events for everybody, and writes each of them
down as text once, however many people look.

Ids are `EPOCH-NUMBER`: the database's epoch and the event's number. A stream begins with the
present state, unless `Last-Event-ID` is of this epoch and later events are still there. Who is slow
misses progress that was overtaken by later progress, and never a change of state.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import time
from collections import Counter, deque
from collections.abc import AsyncIterator, Awaitable, Callable
from typing import Any

from asgiref.sync import sync_to_async
from django.core.serializers.json import DjangoJSONEncoder

from pinecart.json_object import JsonObject
from pinecart.service.runs import presentation, selectors
from pinecart.service.runs.facts import RunFacts

POLL_S = 0.25
ALIVE_S = 5.0
SLOWEST_POLL_S, AT_EASE = 1.0, 50  # with more viewers than these each is told less often
MOST_OF_ONE = 32  # streams of one person


class Mailbox:
    """What one viewer of a run has not been told yet: all changes of state, the latest progress."""

    def __init__(self, run: int) -> None:
        self.run = run
        self._states: deque[tuple[int, str, bool]] = deque()
        self._progress: tuple[int, str, bool] | None = None
        self._is_there = asyncio.Event()

    def put(self, number: int, text: str, *, is_state: bool, is_last: bool) -> None:
        """Every state is kept until it is taken; of progress only the latest, so that a slow
        listener holds nothing up.
        """
        if is_state:
            self._states.append((number, text, is_last))
            self._progress = None  # it is older
        else:
            self._progress = (number, text, False)
        self._is_there.set()

    async def next(self) -> tuple[int, str, bool]:
        """Number, text, and whether it is the last of all."""
        await self._is_there.wait()
        found = self._states.popleft() if self._states else self._progress
        assert found is not None
        if found is self._progress:
            self._progress = None
        if not self._states and self._progress is None:
            self._is_there.clear()
        return found


class Hub:
    """Fans new events out to all open streams of this process; polls only while there are any."""

    def __init__(self) -> None:
        """One poller asks the database for all listeners, and there is none while nobody
        listens.
        """
        self._mailboxes: set[Mailbox] = set()
        self.open_of = Counter[str]()
        self._poller: asyncio.Task[None] | None = None
        self._last = 0
        self._epoch = ""
        self._allowed: dict[str, tuple[float, bool]] = {}

    @contextlib.asynccontextmanager
    async def listening(self, run: int, who: str) -> AsyncIterator[Mailbox]:
        """As long as somebody is in it. The first one begins with what happens from now on; what
        was before is told by the run itself.
        """
        mailbox = Mailbox(run)
        if self._poller is None or self._poller.done():
            self._epoch = await _sync(selectors.database_epoch)()
            self._last = await _sync(selectors.last_event)()
            self._poller = asyncio.create_task(self._poll())
        self._mailboxes.add(mailbox)
        self.open_of[who] += 1
        try:
            yield mailbox
        finally:
            self.open_of[who] -= 1
            self._mailboxes.discard(mailbox)

    async def is_allowed(self, by: str, ask: Callable[[], Awaitable[bool]]) -> bool:
        """Asked once for all streams that come by one token or session, every few seconds.

        by: what tells it from others, and the run.
        """
        now = time.monotonic()
        asked_at, answer = self._allowed.get(by, (0.0, False))
        if now - asked_at >= ALIVE_S:
            self._allowed = {
                k: known for k, known in self._allowed.items() if now - known[0] < ALIVE_S
            }
            answer = await ask()
            self._allowed[by] = (now, answer)
        return answer

    async def _poll(self) -> None:
        while self._mailboxes:
            events = await _sync(selectors.events_after)(self._last)
            for number, run, kind, payload in events:
                self._last = number
                await self._hand_out(number, run, kind, payload)
            viewers = len(self._mailboxes)
            await asyncio.sleep(min(SLOWEST_POLL_S, POLL_S * max(1, viewers / AT_EASE)))

    async def _hand_out(self, number: int, run: int, kind: str, payload: Any) -> None:
        theirs = [mailbox for mailbox in self._mailboxes if mailbox.run == run]
        if not theirs:
            return
        is_state = kind == "state"
        if is_state:
            payload = await _present(run)
        text = _text(f"{self._epoch}-{number}", kind, payload)
        is_last = is_state and payload["state"] == "ended"
        for mailbox in theirs:
            mailbox.put(number, text, is_state=is_state, is_last=is_last)


hub = Hub()


def _sync(call: Any) -> Any:
    return sync_to_async(call, thread_sensitive=False)


async def stream(
    run: RunFacts, who: str, still_allowed: Callable[[], Awaitable[bool]], by: str, last_id: str
) -> AsyncIterator[str]:
    """The text of the stream, for a person of this name, until the run has ended or the caller's
    right is gone. by: what tells their token or session from others.
    """
    epoch = await _sync(selectors.database_epoch)()
    async with hub.listening(run.pk, who) as mailbox:
        seen = await _missed(epoch, last_id)
        now = await _present(run.pk)
        yield _text(f"{epoch}-{seen}", "state", now)
        is_over = now["state"] == "ended"
        checked = time.monotonic()
        while not is_over:
            if time.monotonic() - checked >= ALIVE_S:
                checked = time.monotonic()
                if not await hub.is_allowed(f"{run.pk} {by}", still_allowed):
                    return
            try:
                async with asyncio.timeout(ALIVE_S):  # `wait_for` may lose that a viewer has gone
                    number, text, is_last = await mailbox.next()
            except TimeoutError:
                yield ": alive\n\n"
                continue
            if number > seen:
                yield text
                is_over = is_last


async def _missed(epoch: str, last_id: str) -> int:
    """Where to go on: the id's number if it is of this database, else the newest event."""
    told, _, number = last_id.partition("-")
    last: int = await _sync(selectors.last_event)()
    if told != epoch or not number.isdigit():
        return last
    return min(int(number), last)


async def _present(run: int) -> JsonObject:
    def told() -> JsonObject:
        return presentation.run_told(selectors.run_of(run))

    found: JsonObject = await _sync(told)()
    return found


def _text(number: str, kind: str, payload: Any) -> str:
    return f"id: {number}\nevent: {kind}\ndata: {json.dumps(payload, cls=DjangoJSONEncoder)}\n\n"
