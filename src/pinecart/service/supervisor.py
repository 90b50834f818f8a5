"""One command starts all processes and ends them: web, clock, watcher, notifier, worker, and in
the demo the stand-in
stores.
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
from typing import NamedTuple

import httpx

from pinecart.service.config.state import Options, StateError, StateFolder

MODULES = (
    "pinecart.service.config.asgi",
    "pinecart.service.clock",
    "pinecart.service.watcher",
    "pinecart.service.notifier",
    "pinecart.service.worker",
)
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
    ready: Callable[[Welcome | None], None],
) -> None:
    """Run until SIGTERM or Ctrl-C. extra: further commands to keep running. ready: called once the
    service answers.

    Raises StateError if the state folder can't be used or the address is taken.
    """
    state.prepare()
    with state.lock():
        _must_be_free(options)
        state.write_options(options)
        welcome = prepare(state)
        state.begin_use()
        commands = [*extra, *([sys.executable, "-m", module] for module in MODULES)]
        stop = threading.Event()
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, lambda *_: stop.set())
        family = _Family(commands, os.environ | {"PINECART_DATA": str(state.root)})
        try:
            _wait_until_it_answers(options.url, family, stop)
            if not stop.is_set():
                threading.Thread(target=ready, args=(welcome,), daemon=True).start()
            while not stop.wait(0.5):
                family.replace_the_dead()
        finally:
            family.end()
            _close_records()
            state.end_use()


def _close_records() -> None:
    from django.db import connections

    connections.close_all()


def _must_be_free(options: Options) -> None:
    """Another program at our address would otherwise be taken for our own web process."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((options.host, options.port))
        except OSError as exc:
            message = (
                f"{options.host}:{options.port} can't be listened at ({exc.strerror}). Is the "
                "port taken? Try another: --port"
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
    os.environ["PINECART_DATA"] = str(state.root)
    os.environ["DJANGO_SETTINGS_MODULE"] = "pinecart.service.config.settings"
    import django

    django.setup()
    from pinecart.service.config.preparing import prepare_records

    made = prepare_records(state)
    return Welcome(*made) if made else None


class _Family:
    def __init__(self, commands: list[list[str]], environment: dict[str, str]) -> None:
        self._environment = environment
        self._children = [(command, self._start(command)) for command in commands]
        self._not_before = 0.0

    def _start(self, command: list[str]) -> subprocess.Popen[bytes]:
        return subprocess.Popen(
            command, stdin=subprocess.PIPE, env=self._environment, start_new_session=True
        )

    def any_dead(self) -> bool:
        return any(child.poll() is not None for _, child in self._children)

    def replace_the_dead(self) -> None:
        """A process that died is started again, at most one every two seconds."""
        for i, (command, child) in enumerate(self._children):
            if child.poll() is not None and time.monotonic() >= self._not_before:
                print(
                    f"pinecart: {command[-1]} ended with {child.returncode}; it is started again.",
                    file=sys.stderr,
                )
                self._not_before = time.monotonic() + 2
                self._children[i] = (command, self._start(command))

    def end(self) -> None:
        for _, child in self._children:
            child.terminate()
        deadline = time.monotonic() + END_WITHIN_S
        for _, child in self._children:
            try:
                child.wait(max(0.1, deadline - time.monotonic()))
            except subprocess.TimeoutExpired:
                child.kill()
                child.wait()


def _wait_until_it_answers(url: str, family: _Family, stop: threading.Event) -> None:
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
