"""Where the processes of runs come from: one process that has loaded everything and opened nothing
begins each of them by fork(2), within milliseconds.

A run is as much by itself as in an interpreter that was started for it: the nursery never sees an
order or a secret, those go through a pipe of the run's own. Started as `python -m
pinecart.service.worker.nursery`, with a socket as standard input.
"""

from __future__ import annotations

import contextlib
import gc
import logging
import os
import select
import signal
import socket
import subprocess
import sys
from importlib import import_module

IDLE_S = 3.0  # then there is time to load what only some runs need
log = logging.getLogger("pinecart.service")


class RunProcess:
    """A run's process as the worker sees it. order: the end of its pipe to write to."""

    def __init__(self, pid: int, order: int) -> None:
        self._order = order
        self._seen = os.pidfd_open(pid)

    def tell(self, line: bytes) -> None:
        """Raises BrokenPipeError when it has ended."""
        while line:
            line = line[os.write(self._order, line) :]

    def has_ended(self, wait_s: float = 0.0) -> bool:
        poll = select.poll()
        poll.register(self._seen, select.POLLIN)
        return bool(poll.poll(wait_s * 1000))

    def end(self, wait_s: float) -> None:
        """By a wish first; after the time it was given, outright."""
        for number in (signal.SIGTERM, signal.SIGKILL):
            with contextlib.suppress(ProcessLookupError):
                signal.pidfd_send_signal(self._seen, number)
            if self.has_ended(wait_s):
                break
        self.close()

    def close(self) -> None:
        os.close(self._order)
        os.close(self._seen)


class Nursery:
    """The worker's end of it."""

    def __init__(self) -> None:
        self._process, self._socket = _started()

    def begin(self) -> RunProcess:
        """A new process, which waits for its order. Raises OSError where none can be had."""
        try:
            return self._begin()
        except OSError as exc:
            log.warning("Runs' processes are begun by a new process of ours: %s", exc)
            self.close()
            self._process, self._socket = _started()
            return self._begin()

    def _begin(self) -> RunProcess:
        theirs, ours = os.pipe()
        try:
            socket.send_fds(self._socket, [b"+"], [theirs])
            answer = self._socket.recv(32)
            if not answer:
                raise ConnectionResetError("it has ended")
            return RunProcess(int(answer), ours)
        except OSError:
            os.close(ours)
            raise
        finally:
            os.close(theirs)

    def close(self) -> None:
        self._socket.close()
        try:
            self._process.wait(1)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()


def _started() -> tuple[subprocess.Popen[bytes], socket.socket]:
    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    with theirs:
        command = [sys.executable, "-m", "pinecart.service.worker.nursery"]
        return subprocess.Popen(command, stdin=theirs.fileno()), ours


def _keep_beginning() -> None:
    """Begin a process whenever the worker wants one, until it ends."""
    run = import_module("pinecart.service.worker.run_process").main
    load_all = import_module("pinecart.drivers").load_all
    wishes = socket.socket(fileno=0)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # nobody has to wait for those that ended
    gc.collect()
    gc.freeze()  # what is loaded stays shared with all of them
    is_all_loaded = False
    while True:
        if not is_all_loaded and not select.select([wishes], [], [], IDLE_S)[0]:
            load_all()
            gc.freeze()
            is_all_loaded = True
        wish, pipes, _, _ = socket.recv_fds(wishes, 1, 1)
        if not wish:
            return
        pid = os.fork()
        if pid == 0:
            os.dup2(pipes[0], 0)  # the socket is closed by it
            os.close(pipes[0])
            _be_a_run(run)
        os.close(pipes[0])
        wishes.send(b"%d" % pid)


def _be_a_run(run: object) -> None:
    """In the new process; it never comes back."""
    code = 1
    try:
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        assert callable(run)
        run()
        code = 0
    except Exception:
        log.exception("A run's process ended by a defect.")
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)


if __name__ == "__main__":
    import django

    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "pinecart.service.config.settings")
    django.setup()
    _keep_beginning()
