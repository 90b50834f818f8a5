"""The life of a run:

one table says which event leads where, and every change of state passes through `advance`.
"""

from __future__ import annotations

from enum import StrEnum

from pinecart.core.errors import WrongMoment


class State(StrEnum):
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


NEXT: dict[State, dict[Event, State]] = {
    State.QUEUED: {
        Event.CLAIMED: State.WORKING,
        Event.FINISHED: State.ENDED,
        Event.PAUSE: State.PAUSED,
    },
    State.WORKING: {
        Event.FINISHED: State.ENDED,
        Event.PROCESS_DIED: State.INTERRUPTED,
        Event.GUARD_HELD: State.HELD,
        Event.REFUSED_SIGN_IN: State.HELD,
        Event.PAUSE: State.PAUSED,
    },
    State.HELD: {Event.RELEASED: State.QUEUED, Event.FINISHED: State.ENDED},
    State.PAUSED: {Event.RESUME: State.QUEUED, Event.FINISHED: State.ENDED},
    State.INTERRUPTED: {
        Event.CLAIMED: State.WORKING,
        Event.FINISHED: State.ENDED,
        Event.PAUSE: State.PAUSED,
    },
    State.ENDED: {},
}
CLAIMABLE = (State.QUEUED, State.INTERRUPTED)
ALIVE = (State.QUEUED, State.WORKING, State.HELD, State.PAUSED, State.INTERRUPTED)


def advance(state: State, event: Event) -> State:
    """Raises WrongMoment if `state` does not expect `event`."""
    try:
        return NEXT[state][event]
    except KeyError:
        raise WrongMoment(f"A run that is {state.value} can't take {event.value!r}.") from None
