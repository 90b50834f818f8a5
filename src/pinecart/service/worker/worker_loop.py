"""The worker: gives each run a fresh process, learns of its end by waiting for it, and takes up
what a dead one left.

The truth of who works on a run is the lock that its process holds for its life, never the time.
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import logging
from datetime import datetime

from pinecart.service.config.settings import OPTIONS, STATE
from pinecart.service.nursery import RUN, Child, Nursery
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.selectors import run_of, runs_working
from pinecart.service.runs.services.life_cycle import fail_unstarted, interrupt
from pinecart.service.runs.services.queue import (
    claim_next,
    go_on_after_low_disk,
    hold_back,
    keep_hours,
)
from pinecart.service.stores.selectors import newest_key
from pinecart.service.worker.orders import order_of

log = logging.getLogger("pinecart.service")
PAUSE_BELOW = 0.4  # of the least free disk with which a run starts: 200 MiB of 500


class Worker:
    def __init__(self) -> None:
        self._nursery = Nursery(is_for_runs=True)  # before the records are opened
        self._children: dict[int, Child] = {}
        self._keys_seen = newest_key()

    def has_ended_runs(self) -> bool:
        """Processes of runs that have ended since the last turn."""
        return any(child.has_ended() for child in self._children.values())

    def turn(self, now: datetime) -> None:
        self._hand_on_new_keys()
        for number in [n for n, child in self._children.items() if child.has_ended()]:
            self._children.pop(number).close()
        for run in runs_working():
            if run.pk not in self._children and is_free(run.pk):
                interrupt(run)
        free = STATE.free_bytes()
        if free >= OPTIONS.least_free:
            go_on_after_low_disk()
        if free < OPTIONS.least_free:
            hold_back(free, all_pause=free < OPTIONS.least_free * PAUSE_BELOW)
            return
        keep_hours(now)
        while claimed := claim_next(now=now, limit=OPTIONS.runs_at_once):
            self._start(claimed)

    def _hand_on_new_keys(self) -> None:
        """A store's key that was changed reaches the runs under way through their pipes."""
        seen = self._keys_seen
        self._keys_seen = newest_key()
        if self._keys_seen == seen:
            return
        for number, child in self._children.items():
            order = order_of(run_of(number))
            line = json.dumps({"stores": order["stores"]}).encode() + b"\n"
            with contextlib.suppress(BrokenPipeError):
                child.tell(line)

    def _start(self, run: RunFacts) -> None:
        """The order, secrets included, goes through the pipe; its end later tells the child that we
        are gone.
        """
        try:
            order = json.dumps(order_of(run)).encode() + b"\n"
        except Exception as exc:
            log.exception("Run %s could not be started.", run.pk)
            fail_unstarted(
                run,
                (
                    f"It could not be started ({type(exc).__name__}: {exc}). The service's log "
                    "has more."
                ),
            )
            return
        child = self._nursery.begin(RUN)
        self._children[run.pk] = child
        with contextlib.suppress(BrokenPipeError):  # the next turn finds its run's lock free
            child.tell(order)

    def close(self) -> None:
        """Runs are interrupted, not ended: they go on when the service is back."""
        for child in self._children.values():
            child.end(1)
        self._nursery.close()


def is_free(run: int) -> bool:
    """Whether no living process holds the run's lock."""
    with STATE.run_file(run, "lock").open("a") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            return False
        return True
