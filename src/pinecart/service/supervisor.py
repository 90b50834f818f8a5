"""One command starts all processes and ends them: web, clock, watcher, notifier, worker, and in
the demo the stand-in stores.
"""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from functools import partial
from typing import NamedTuple, Protocol

import httpx

from pinecart.service.config.state import Options, StateError, StateFolder
from pinecart.service.nursery import PARTS, Nursery

END_WITHIN_S = 2.5


class Welcome(NamedTuple):
    """What a first start made up: told to the person once."""

    person: str
    password: str


def serve(
    state: StateFolder,
    options: Options,
    *,
    extra: list[list[str]],
    ports: range,
    ready: Callable[[Welcome | None], None],
) -> None:
    """Run until SIGTERM or Ctrl-C. extra: further commands to keep running, at the ports of theirs.
    ready: called once the service answers.

    Raises StateError if the state folder can't be used or an address is taken.
    """
    state.prepare()
    with state.lock():
        for port in (options.port, *ports):
            _must_be_free(options.host, port)
        state.write_options(options)
        _load(state)
        nursery = Nursery()
        welcome = prepare(state)
        state.begin_use()
        stop = threading.Event()
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, lambda *_: stop.set())
        family = _Family()
        try:
            for command in extra:
                family.add(command[-1], partial(_Command, command))
            for name in PARTS:
                family.add(f"the {name}", partial(nursery.begin, name))
            _wait_until_it_answers(options.url, family, stop)
            if not stop.is_set():
                threading.Thread(target=ready, args=(welcome,), daemon=True).start()
            while not stop.wait(0.5):
                family.replace_the_dead()
        finally:
            family.end()
            nursery.close()
            _close_records()
            state.end_use()


def _load(state: StateFolder) -> None:
    os.environ["PINECART_DATA"] = str(state.root)
    os.environ["DJANGO_SETTINGS_MODULE"] = "pinecart.service.config.settings"
    import django

    django.setup()


def _close_records() -> None:
    from django.db import connections

    connections.close_all()


def _must_be_free(host: str, port: int) -> None:
    """Another program at our address would otherwise be taken for our own process."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError as exc:
            message = (
                f"{host}:{port} can't be listened at ({exc.strerror}). Is the port taken? Try "
                "another: --port"
            )
            raise StateError(message, code="state.port-taken") from exc


def prepare(state: StateFolder) -> Welcome | None:
    """Bring the database up to date, with a copy first if there is something to lose; make the
    first person. Raises StateError.
    """
    import sqlite3

    try:
        return _prepared(state)
    except StateError:
        raise
    except Exception as exc:
        cause: BaseException | None = exc
        while cause is not None and not isinstance(cause, sqlite3.Error | OSError):
            cause = cause.__cause__
        if cause is None:
            raise
        message = (
            f"The records in {state.root} can't be used ({cause}). Is the disk full, or another "
            f"program at work on them? To look them over: pinecart check --data {state.root}"
        )
        raise StateError(message, code="state.records-unusable") from exc


def _prepared(state: StateFolder) -> Welcome | None:
    _load(state)
    from pinecart.service.config.preparing import prepare_records

    made = prepare_records(state)
    if made:
        return Welcome(*made)
    return None


class _Member(Protocol):
    def has_ended(self, wait_s: float = 0.0) -> bool: ...
    def ask_to_end(self) -> None: ...
    def end(self, wait_s: float) -> None: ...


class _Command:
    """A program of its own."""

    def __init__(self, words: list[str]) -> None:
        self._process = subprocess.Popen(words, stdin=subprocess.PIPE, start_new_session=True)

    def has_ended(self, wait_s: float = 0.0) -> bool:
        try:
            self._process.wait(wait_s)
        except subprocess.TimeoutExpired:
            return False
        return True

    def ask_to_end(self) -> None:
        self._process.terminate()

    def end(self, wait_s: float) -> None:
        self.ask_to_end()
        if not self.has_ended(wait_s):
            self._process.kill()
            self._process.wait()


class _Family:
    def __init__(self) -> None:
        self._members: list[tuple[str, Callable[[], _Member], _Member]] = []
        self._not_before = 0.0

    def add(self, name: str, begin: Callable[[], _Member]) -> None:
        self._members.append((name, begin, begin()))

    def any_dead(self) -> bool:
        return any(member.has_ended() for *_, member in self._members)

    def replace_the_dead(self) -> None:
        """A process that died is started again, at most one every two seconds."""
        for i, (name, begin, member) in enumerate(self._members):
            now = time.monotonic()
            if now < self._not_before or not member.has_ended():
                continue
            print(f"pinecart: {name} has ended; it is started again.", file=sys.stderr)
            self._not_before = now + 2
            member.end(0)
            anew = begin()
            self._members[i] = name, begin, anew

    def end(self) -> None:
        """All are asked at once and share the time they have; whoever still works after that is
        killed.
        """
        members = [member for *_, member in self._members]
        for member in members:
            member.ask_to_end()
        deadline = time.monotonic() + END_WITHIN_S
        for member in members:
            member.end(max(0.1, deadline - time.monotonic()))


def _wait_until_it_answers(url: str, family: _Family, stop: threading.Event) -> None:
    """By its own address, as whoever uses it will. Raises StateError where a part died or a minute
    has passed.
    """
    deadline = time.monotonic() + 60
    while not stop.wait(0.05):
        if family.any_dead() or time.monotonic() > deadline:
            raise StateError(f"The service did not start at {url}. The lines above say more.")
        try:
            # its own process, by a certificate for another name: nothing secret is asked
            if httpx.get(f"{url}/api/v1/health", timeout=2, verify=False).status_code == 200:  # noqa: S501
                return
        except httpx.HTTPError:
            continue
