"""Django's SQLite backend, in which whoever meets a locked database waits its turn.

SQLite's own waiting looks again every 100 ms at last, and never gets in where another process
writes again at once. Here it is looked again within some milliseconds, at moments of chance, so
that all who wait get their turn. Only what begins a transaction, or is one by itself, can meet a
lock: transactions are begun IMMEDIATE.
"""

from __future__ import annotations

import random
import sqlite3
import time
from collections.abc import Callable
from typing import Any

from django.db.backends.sqlite3 import base
from django.db.utils import OperationalError

WAIT_S = 20.0
AGAIN_S = 0.008


class _Waiting(base.SQLiteCursorWrapper):
    def execute(self, query: Any, params: Any = None) -> Any:
        return _patiently(lambda: super(_Waiting, self).execute(query, params))

    def executemany(self, query: Any, param_list: Any) -> Any:
        return _patiently(lambda: super(_Waiting, self).executemany(query, param_list))


def _patiently(call: Callable[[], Any]) -> Any:
    deadline = time.monotonic() + WAIT_S
    while True:
        try:
            return call()
        except (OperationalError, sqlite3.OperationalError) as exc:
            if not is_locked(exc) or time.monotonic() > deadline:
                raise
        time.sleep(AGAIN_S * (0.5 + random.random()))  # noqa: S311 - so that two who wait don't keep step


def is_locked(exc: BaseException) -> bool:
    return "database is locked" in str(exc)


class DatabaseWrapper(base.DatabaseWrapper):
    def create_cursor(self, name: str | None = None) -> Any:
        if self.in_atomic_block:
            return super().create_cursor(name)
        return self.connection.cursor(factory=_Waiting)
