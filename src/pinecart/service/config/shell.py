"""The shell around the clock and the worker: repeats `turn(now)` until it is told to stop, and
rests as long as nothing has happened that a turn could be about.
"""

from __future__ import annotations

import logging
import signal
import sqlite3
import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Protocol
from urllib.parse import quote

from django.db import close_old_connections, connections

from pinecart.service.config.alive import show_life
from pinecart.service.config.process import end_with_parent
from pinecart.service.config.settings import STATE

log = logging.getLogger("pinecart.service")
LOOK_S = 0.1  # so often whoever rests looks whether anything has happened


class Turner(Protocol):
    def turn(self, now: datetime) -> None: ...
    def close(self) -> None: ...


class Rest:
    """Between two turns, while nothing has happened.

    most_s: however quiet it is, a turn comes so often.   has_news: of anything but the records.
    """

    def __init__(self, most_s: float, has_news: Callable[[], bool] = lambda: False) -> None:
        self._most_s = most_s
        self._has_news = has_news
        self._records = _records()
        self._version = 0

    def begin(self) -> None:
        """What is written from now on is news. By a new connection, so that one that went bad
        harms one turn alone.
        """
        self._records.close()
        self._records = _records()
        self._version = self._written()

    def last(self, stop: threading.Event) -> None:
        """Until there are news, it has been long enough, or it is to stop."""
        until = time.monotonic() + self._most_s
        while not stop.wait(LOOK_S):
            is_over = time.monotonic() >= until
            if is_over or self._has_news() or self._written() != self._version:
                return

    def _written(self) -> int:
        """Another number once anybody has committed (SQLite, PRAGMA data_version)."""
        (version,) = self._records.execute("PRAGMA data_version").fetchone()
        return int(version)


def _records() -> sqlite3.Connection:
    return sqlite3.connect(f"file:{quote(str(STATE.database))}?mode=ro", uri=True)


def keep_turning(turner: Turner, seconds: float, rest: Rest | None = None) -> None:
    """A turn that fails is logged and tried again; the database connection is made anew then.

    seconds: between two turns at least.   rest: between those, in quiet times.
    """
    stop = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stop.set())
    end_with_parent()
    while not stop.is_set():
        try:
            if rest:
                rest.begin()
            turner.turn(datetime.now(UTC))
            show_life(type(turner).__name__)
            close_old_connections()
            stop.wait(seconds)
            if rest:
                rest.last(stop)
        except Exception:
            log.exception("A turn of %s failed; it is tried again.", type(turner).__name__)
            connections.close_all()
            stop.wait(2)
    turner.close()
