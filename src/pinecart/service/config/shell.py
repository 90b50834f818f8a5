"""The shell around the clock and the worker: repeats `turn(now)` until it is told to stop."""

from __future__ import annotations

import logging
import signal
import threading
from datetime import UTC, datetime
from typing import Protocol

from django.db import close_old_connections, connections

from pinecart.service.config.alive import show_life
from pinecart.service.config.process import end_with_parent

log = logging.getLogger("pinecart.service")


class Turner(Protocol):
    def turn(self, now: datetime) -> None: ...
    def close(self) -> None: ...


def keep_turning(turner: Turner, seconds: float) -> None:
    """A turn that fails is logged and tried again; the database connection is made anew then."""
    stop = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stop.set())
    end_with_parent()
    while not stop.is_set():
        try:
            turner.turn(datetime.now(UTC))
            show_life(type(turner).__name__)
            close_old_connections()
        except Exception:
            log.exception("A turn of %s failed; it is tried again.", type(turner).__name__)
            connections.close_all()
            stop.wait(2)
        stop.wait(seconds)
    turner.close()
