"""Where our processes come from: one process that has loaded everything and opened nothing begins
each of them by fork(2), within milliseconds and in memory that they share.

A process is as much by itself as in an interpreter that was started for it: the nursery never sees
an order or a secret of a run, those go through a pipe of the run's own. The supervisor has a
nursery, for the service's parts; the worker, forked from that, has one of its own, for runs. It is
forked where its owner has opened nothing yet. One that was lost is started anew, as
`python -m pinecart.service.nursery` with a socket as standard input.
"""

from __future__ import annotations

import contextlib
import gc
import logging
import os
import select
import signal
import socket
import sys
from functools import partial
from importlib import import_module
from pathlib import Path
from typing import NoReturn

PARTS = {
    "web": "pinecart.service.config.asgi",
    "clock": "pinecart.service.clock.process",
    "watcher": "pinecart.service.watcher.process",
    "notifier": "pinecart.service.notifier.process",
    "worker": "pinecart.service.worker.process",
}
RUN = "run"
MODULES = PARTS | {RUN: "pinecart.service.worker.run_process"}
IDLE_S = 3.0  # then there is time to load what only some runs need
log = logging.getLogger("pinecart.service")


class Child:
    """A process as its owner sees it. order: the end of its pipe to write to."""

    def __init__(self, pid: int, order: int) -> None:
        self._order = order
        self._seen = os.pidfd_open(pid)

    def tell(self, line: bytes) -> None:
        """Raises BrokenPipeError when it has ended."""
        while line:
            line = line[os.write(self._order, line) :]

    def has_ended(self, wait_s: float = 0.0) -> bool:
        return _has_ended(self._seen, wait_s)

    def ask_to_end(self) -> None:
        self._signal(signal.SIGTERM)

    def end(self, wait_s: float) -> None:
        """By a wish first; after the time it was given, outright."""
        self.ask_to_end()
        if not self.has_ended(wait_s):
            self._signal(signal.SIGKILL)
            self.has_ended(wait_s)
        self.close()

    def close(self) -> None:
        os.close(self._order)
        os.close(self._seen)

    def _signal(self, number: signal.Signals) -> None:
        with contextlib.suppress(ProcessLookupError):
            signal.pidfd_send_signal(self._seen, number)


class Nursery:
    """Its owner's end of it. Made where Django is loaded, and nothing opened."""

    def __init__(self, *, is_for_runs: bool = False) -> None:
        self._is_for_runs = is_for_runs
        self._pid, self._socket = _forked(is_for_runs)

    def begin(self, name: str) -> Child:
        """A new process; a run waits for its order. name: one of MODULES.

        Raises OSError where none can be had.
        """
        try:
            return self._begin(name)
        except OSError as exc:
            log.warning("Processes are begun by a new process of ours: %s", exc)
            self.close()
            self._pid, self._socket = _started(self._is_for_runs)
            return self._begin(name)

    def _begin(self, name: str) -> Child:
        theirs, ours = os.pipe()
        try:
            socket.send_fds(self._socket, [name.encode()], [theirs])
            answer = self._socket.recv(32)
            if not answer:
                raise ConnectionResetError("it has ended")
            return Child(int(answer), ours)
        except OSError:
            os.close(ours)
            raise
        finally:
            os.close(theirs)

    def close(self) -> None:
        """It ends when its line does, or else outright; what it began goes on."""
        self._socket.close()
        seen = os.pidfd_open(self._pid)
        if not _has_ended(seen, 1):
            os.kill(self._pid, signal.SIGKILL)
        os.waitpid(self._pid, 0)
        os.close(seen)


def _has_ended(process: int, wait_s: float) -> bool:
    """process: a pidfd."""
    poll = select.poll()
    poll.register(process, select.POLLIN)
    return bool(poll.poll(wait_s * 1000))


def _forked(is_for_runs: bool) -> tuple[int, socket.socket]:
    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    pid = os.fork()
    if pid == 0:
        os.dup2(theirs.fileno(), 0)
        os.closerange(3, os.sysconf("SC_OPEN_MAX"))
        _be("nursery", partial(keep_beginning, is_for_runs))
    theirs.close()
    return pid, ours


def _started(is_for_runs: bool) -> tuple[int, socket.socket]:
    """Its process number and our end of the line to it. It has the modules loaded before anybody
    needs it, and forks from there.
    """
    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    with theirs:
        command = [
            sys.executable,
            "-m",
            "pinecart.service.nursery",
            *([RUN] if is_for_runs else []),
        ]
        its_line = (os.POSIX_SPAWN_DUP2, theirs.fileno(), 0)
        return os.posix_spawn(sys.executable, command, os.environ, file_actions=[its_line]), ours


def keep_beginning(is_for_runs: bool) -> None:
    """Begin a process whenever one is wanted, until the owner ends."""
    mains = {name: import_module(module).main for name, module in MODULES.items()}
    wishes = socket.socket(fileno=0)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # nobody has to wait for those that ended
    gc.collect()
    gc.freeze()  # what is loaded stays shared with all of them
    is_all_loaded = not is_for_runs
    while True:
        if not is_all_loaded and not select.select([wishes], [], [], IDLE_S)[0]:
            import_module("pinecart.drivers").load_all()
            gc.freeze()
            is_all_loaded = True
        wish, pipes, _, _ = socket.recv_fds(wishes, 16, 1)
        if not wish:
            return
        name = wish.decode()
        pid = os.fork()
        if pid == 0:
            os.dup2(pipes[0], 0)  # the socket is closed by it
            os.close(pipes[0])
            signal.signal(signal.SIGCHLD, signal.SIG_DFL)
            _be(name, mains[name])
        os.close(pipes[0])
        wishes.send(b"%d" % pid)


def _be(name: str, main: object) -> NoReturn:
    """In the new process; it never comes back. A terminal's Ctrl-C doesn't reach it."""
    code = 1
    try:
        os.setsid()
        with contextlib.suppress(OSError):  # /proc may be read only
            Path("/proc/self/comm").write_text(f"pine-{name}")  # of at most 15 characters
        assert callable(main)
        main()
        code = 0
    except Exception:
        log.exception("The process of %s ended by a defect.", name)
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)


if __name__ == "__main__":
    import django

    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "pinecart.service.config.settings")
    django.setup()
    keep_beginning(is_for_runs=RUN in sys.argv)
