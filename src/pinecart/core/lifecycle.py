"""The life of a run: one table says which event leads where, and every change of state passes
through `advance`.
"""

from __future__ import annotations

from enum import StrEnum

from pinecart.core.errors import WrongMoment


class RunState(StrEnum):
    QUEUED = "queued"
    WORKING = "working"
    HELD = "held"
    PAUSED = "paused"
    INTERRUPTED = "interrupted"
    ENDED = "ended"


class Event(StrEnum):
    CLAIMED = "claimed"
    PROCESS_DIED = "process-died"
    REFUSED_SIGN_IN = "refused-sign-in"
    GUARD_HELD = "guard-held"
    RELEASED = "released"
    PAUSE = "pause"
    RESUME = "resume"
    FINISHED = "finished"


class Outcome(StrEnum):
    CLEAN = "clean"
    NOTHING_TO_DO = "nothing-to-do"
    PROBLEMS = "problems"
    FAILED = "failed"
    STOPPED = "stopped"
    SKIPPED = "skipped"


class Phase(StrEnum):
    CONNECTING = "connecting"
    LISTING = "listing"
    TRANSFERRING = "transferring"
    CHECKING = "checking"
    REMOVING = "removing"


NEXT: dict[RunState, dict[Event, RunState]] = {
    RunState.QUEUED: {
        Event.CLAIMED: RunState.WORKING,
        Event.FINISHED: RunState.ENDED,
        Event.PAUSE: RunState.PAUSED,
    },
    RunState.WORKING: {
        Event.FINISHED: RunState.ENDED,
        Event.PROCESS_DIED: RunState.INTERRUPTED,
        Event.GUARD_HELD: RunState.HELD,
        Event.REFUSED_SIGN_IN: RunState.HELD,
        Event.PAUSE: RunState.PAUSED,
    },
    RunState.HELD: {Event.RELEASED: RunState.QUEUED, Event.FINISHED: RunState.ENDED},
    RunState.PAUSED: {Event.RESUME: RunState.QUEUED, Event.FINISHED: RunState.ENDED},
    RunState.INTERRUPTED: {
        Event.CLAIMED: RunState.WORKING,
        Event.FINISHED: RunState.ENDED,
        Event.PAUSE: RunState.PAUSED,
    },
    RunState.ENDED: {},
}
CLAIMABLE = (RunState.QUEUED, RunState.INTERRUPTED)
ALIVE = (RunState.QUEUED, RunState.WORKING, RunState.HELD, RunState.PAUSED, RunState.INTERRUPTED)


def advance(state: RunState, event: Event) -> RunState:
    """Raises WrongMoment if `state` does not expect `event`."""
    try:
        return NEXT[state][event]
    except KeyError:
        raise WrongMoment(f"A run that is {state.value} can't take {event.value!r}.") from None
