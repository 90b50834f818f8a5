"""The errors of the engine, as a tree.

PinecartError            code, message (what, which, what to do), facts
├── Invalid              the caller's definition or words are wrong; `problems` names every one
├── WrongMoment          an event that the state does not expect
├── Incomplete           a listing that can't be trusted to be whole
└── StoreError           a storage system, or the way to it
    ├── Missing          nothing there under that key
    ├── Refused          it answered, and said no; the same again will not help
    │   ├── Halting         nothing more can be done at this store: the run doesn't go on
    │   │   ├── SignInRefused   the credentials themselves are not accepted
    │   │   └── PlaceLost       what lies there is another disk than when the run began
    │   └── Unsafe       a name or file that this store may not hold or give
    ├── Taken            a condition failed: something is there, or is not as planned
    ├── Changed          the source changed while it was read
    ├── Corrupt          bytes or checksums do not agree
    └── Busy             try again: slow down, time-out, cut line, fault on their side
        └── Unreachable  no connection at all
"""

from __future__ import annotations

from typing import Any


class PinecartError(Exception):
    """An error with a stable `code` for programs, a message for people, and `facts`."""

    code = "internal"

    def __init__(self, message: str, *, code: str | None = None, **facts: Any) -> None:
        super().__init__(message)
        self.message = message
        self.code = code or type(self).code
        self.facts = facts


class Invalid(PinecartError):
    """What was given can't be used. `problems`: one {field, code, message} for each thing wrong."""

    code = "invalid"

    def __init__(self, problems: list[dict[str, str]]) -> None:
        words = " ".join(problem["message"] for problem in problems)
        code = problems[0]["code"]
        super().__init__(words, code=code, problems=problems)
        self.problems = problems


class WrongMoment(PinecartError):
    code = "run.wrong-moment"


class Incomplete(PinecartError):
    code = "listing.incomplete"


class StoreError(PinecartError):
    code = "store.error"
    retry = False


class Missing(StoreError):
    code = "store.missing"


class Refused(StoreError):
    code = "store.refused"


class Halting(Refused):
    code = "store.halted"


class PlaceLost(Halting):
    code = "store.not-the-same"


class SignInRefused(Halting):
    code = "store.sign-in-refused"


class Unsafe(Refused):
    code = "unsafe-name"


class Taken(StoreError):
    code = "store.not-as-planned"


class Changed(StoreError):
    code = "keeps-changing"
    retry = True


class Corrupt(StoreError):
    code = "store.corrupt"
    retry = True


class Busy(StoreError):
    """`wait_s`: seconds the other side asked for (Retry-After), or None."""

    code = "store.busy"
    retry = True

    def __init__(
        self, message: str, *, wait_s: float | None = None, code: str | None = None, **facts: Any
    ) -> None:
        """wait_s: seconds that the other side asked for, which are kept; None: it asked for none,
        and the wait grows by itself.
        """
        super().__init__(message, code=code, **facts)
        self.wait_s = wait_s


class Unreachable(Busy):
    code = "store.unreachable"
