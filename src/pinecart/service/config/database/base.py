"""Django's SQLite backend, in which whoever meets a locked database waits its turn.

SQLite's own waiting looks again every 100 ms at last, and never gets in where another process
writes again at once. Ours go through a turnstile on their way to the database: one of them waits at
it, and who has just written stands behind those who wait. Only what begins a transaction, or is one
by itself, can meet a lock: transactions are begun IMMEDIATE.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import random
import sqlite3
import time
from collections.abc import Callable, Iterator
from datetime import datetime
from typing import Any

from django.db.backends.sqlite3 import base
from django.db.utils import OperationalError

WAIT_S = 20.0
AGAIN_S = 0.008


class Turnstile:
    """Lets one writer of all our processes at a time wait at the database (flock(2) on an empty
    file beside it).
    """

    def __init__(self, database: Any) -> None:
        self._path = f"{database}-turn"
        self._file: int | None = None

    @contextlib.contextmanager
    def passing(self, deadline: float) -> Iterator[None]:
        """Raises: sqlite3.OperationalError when others stood there until the deadline (seconds of
        the monotonic clock), or when the file can't be made.
        """
        file = self._opened()
        self._enter(file, deadline)
        try:
            yield
        finally:
            fcntl.flock(file, fcntl.LOCK_UN)

    def _opened(self) -> int:
        """The file that all processes of the service take their turn by, opened once; it never has
        anything in it.
        """
        if self._file is None:
            try:
                self._file = os.open(self._path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
            except OSError as exc:
                raise sqlite3.OperationalError(f"unable to open {self._path}: {exc}") from exc
        return self._file

    def _enter(self, file: int, deadline: float) -> None:
        while True:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                if time.monotonic() > deadline:
                    raise sqlite3.OperationalError("database is locked") from None
                _pause()
            else:
                return

    def close(self) -> None:
        if self._file is not None:
            os.close(self._file)
            self._file = None


class _Waiting(base.SQLiteCursorWrapper):
    def __init__(self, connection: Any, turnstile: Turnstile) -> None:
        super().__init__(connection)
        self._turnstile = turnstile

    def execute(self, query: Any, params: Any = None) -> Any:
        return self._in_turn(query, lambda: super(_Waiting, self).execute(query, params))

    def executemany(self, query: Any, param_list: Any) -> Any:
        return self._in_turn(query, lambda: super(_Waiting, self).executemany(query, param_list))

    def _in_turn(self, query: str, call: Callable[[], Any]) -> Any:
        """Who writes comes one after the other over all processes, since the database itself lets
        whoever asks next go first.
        """
        deadline = time.monotonic() + WAIT_S
        if query.startswith("SELECT"):
            return _patiently(call, deadline)  # who reads meets a lock only while a log is reset
        with self._turnstile.passing(deadline):
            return _patiently(call, deadline)


def _patiently(call: Callable[[], Any], deadline: float) -> Any:
    while True:
        try:
            return call()
        except (OperationalError, sqlite3.OperationalError) as exc:
            if not is_locked(exc) or _is_in_vain(exc) or time.monotonic() > deadline:
                raise
        _pause()


def _is_in_vain(exc: BaseException) -> bool:
    """A listing of this very connection is open, and others wrote since it was begun: however long
    it waits, it can't write before that listing is closed.
    """
    cause = exc.__cause__ or exc
    return getattr(cause, "sqlite_errorcode", 0) == sqlite3.SQLITE_BUSY_SNAPSHOT


def _pause() -> None:
    time.sleep(AGAIN_S * (0.5 + random.random()))  # noqa: S311 - so that two who wait don't keep step


def is_locked(exc: BaseException) -> bool:
    return "database is locked" in str(exc)


def _moment(kept: bytes) -> datetime:
    """All times are kept in UTC. Read in one step, for a page tells hundreds of them: Django would
    read them without their zone, and then make them anew with it.
    """
    return datetime.fromisoformat(f"{kept.decode()}+00:00")


sqlite3.register_converter("datetime", _moment)


class DatabaseWrapper(base.DatabaseWrapper):
    def __init__(self, *given: Any, **named: Any) -> None:
        super().__init__(*given, **named)
        self._turnstile = Turnstile(self.settings_dict["NAME"])

    def get_new_connection(self, conn_params: Any) -> Any:
        """Its first look at the database meets a lock while another process mends the log that a
        killed one has left.
        """
        opened = super().get_new_connection
        return _patiently(lambda: opened(conn_params), time.monotonic() + WAIT_S)

    def create_cursor(self, name: str | None = None) -> Any:
        if self.in_atomic_block:
            return super().create_cursor(name)
        return self.connection.cursor(factory=lambda made: _Waiting(made, self._turnstile))

    def close(self) -> None:
        super().close()
        self._turnstile.close()
