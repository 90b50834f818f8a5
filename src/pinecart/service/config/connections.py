"""Connections: whoever opens one says soon what they want, and when there are too many, those that
say nothing go first.
"""

from __future__ import annotations

import asyncio
import resource

from uvicorn.protocols.http.h11_impl import H11Protocol

HEAD_WITHIN_S = 20.0
MOST_SILENT = 2000  # connections that wait for nothing of ours

_silent: dict[Connection, None] = {}  # oldest first


class Connection(H11Protocol):
    """Silent: no request of it is being answered. A head that comes a byte at a time is silence
    too.
    """

    _ends: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self._note()

    def data_received(self, data: bytes) -> None:
        super().data_received(data)
        self._note()

    def on_response_complete(self) -> None:
        super().on_response_complete()
        self._note()

    def connection_lost(self, exc: Exception | None) -> None:
        super().connection_lost(exc)
        self._speaks()

    def _note(self) -> None:
        if self.cycle is not None and not self.cycle.response_complete:
            self._speaks()
        elif self._ends is None and not self.transport.is_closing():
            self._ends = self.loop.call_later(HEAD_WITHIN_S, self._end)
            _silent[self] = None
            if len(_silent) > MOST_SILENT:
                next(iter(_silent))._end()

    def _speaks(self) -> None:
        _silent.pop(self, None)
        if self._ends is not None:
            self._ends.cancel()
            self._ends = None

    def _end(self) -> None:
        self._speaks()
        self.transport.close()


def raise_limits() -> None:
    """As many open files as this account may have: each connection is one."""
    _, most = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (most, most))
