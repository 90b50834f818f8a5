"""What people may want to be told of, and how a message says it: what happened, where to look, what
to do. One message may tell of many.
"""

from __future__ import annotations

import base64
import hmac
from collections.abc import Sequence
from datetime import datetime, timedelta
from enum import StrEnum
from typing import NamedTuple

from pinecart.core.lifecycle import Outcome, RunState


class Kind(StrEnum):
    PROBLEMS = "problems"
    FAILED = "failed"
    HELD = "held"
    LATE = "late"
    MISSED = "missed"
    NOT_COME = "expected-not-come"
    RECOVERED = "recovered"
    UNUSUAL = "unusual"
    DONE = "done"
    DAY = "daily"


WORDS = {
    Kind.PROBLEMS: "▲ problems",
    Kind.FAILED: "✗ failed",
    Kind.HELD: "◆ waiting for your yes",
    Kind.LATE: "▲ late",
    Kind.MISSED: "◇ did not run",
    Kind.NOT_COME: "▲ expected and not come",
    Kind.RECOVERED: "✓ well again",
    Kind.UNUSUAL: "▲ unusual",
    Kind.DONE: "✓ done",
    Kind.DAY: "○ the day",
}
TO_DO = {
    Kind.PROBLEMS: "Look at its problems, mend the cause, and try again.",
    Kind.FAILED: "Look at the reason, mend it, and try again.",
    Kind.HELD: "Look at the list, then let it go on or cancel it.",
    Kind.LATE: "See whether it runs, waits or failed; start it if nothing holds it back.",
    Kind.MISSED: "See the reason; start it by hand if it shall not wait for the next time.",
    Kind.NOT_COME: "Ask whoever delivers it, and look at the source.",
    Kind.UNUSUAL: "See whether that is right; it was carried all the same.",
}
GOOD = (Outcome.CLEAN.value, Outcome.NOTHING_TO_DO.value)
BAD = (Outcome.FAILED.value, Outcome.PROBLEMS.value)
FIRST_WAIT = timedelta(seconds=30)
LONGEST_WAIT = timedelta(hours=1)
GIVEN_UP_AFTER = timedelta(days=3)


class Happening(NamedTuple):
    """id: always the same for the same thing.   path: of the page where to look."""

    id: str
    kind: Kind
    job: str
    run: int | None
    at: datetime
    words: str
    path: str

    def payload(self, address: str) -> dict[str, object]:
        """As web calls tell it. address: of the console."""
        return {
            "id": self.id,
            "kind": self.kind.value,
            "job": self.job,
            "run": self.run,
            "at": self.at.isoformat(),
            "what": self.words,
            "look": f"{address}{self.path}",
            "do": TO_DO.get(self.kind, ""),
        }


def kind_of_run(state: str, outcome: str, before: str) -> Kind | None:
    """before: how the run before it ended, those left out that were skipped or stopped."""
    if state == RunState.HELD.value:
        return Kind.HELD
    if outcome == Outcome.SKIPPED.value:
        return Kind.MISSED
    if outcome in BAD:
        return Kind(outcome)
    if outcome not in GOOD:
        return None
    if before in BAD:
        return Kind.RECOVERED
    return Kind.DONE


def subject_of(happenings: Sequence[Happening]) -> str:
    """The head of one message that tells of them."""
    if len(happenings) > 1:
        kinds = dict.fromkeys(WORDS[one.kind] for one in happenings)
        of = ", ".join(kinds)
        return f"{len(happenings)} things happened: {of}"
    (one,) = happenings
    words = WORDS[one.kind]
    if one.job:
        words += f": {one.job}"
    if one.run:
        words += f", run {one.run}"
    return words


def text_of(happenings: Sequence[Happening], address: str) -> str:
    """The body of one message, in plain text."""
    parts = []
    for one in happenings:
        subject = subject_of([one])
        when = f"When: {one.at:%Y-%m-%d %H:%M} UTC"
        where = f"Look: {address}{one.path}"
        lines = [subject, one.words, when, where]
        todo = TO_DO.get(one.kind)
        if todo:
            lines.append(f"Do: {todo}")
        lines.append(f"Notice {one.id}")
        parts.append("\n".join(lines))
    whole = "\n\n".join(parts)
    return f"{whole}\n"


def next_wait(tries: int) -> timedelta:
    """Before the next try, after so many that failed: twice as long each time."""
    doubled: timedelta = FIRST_WAIT * 2.0 ** min(tries - 1, 20)
    return min(doubled, LONGEST_WAIT)


def signature_of(secret: str, at: str, body: bytes) -> str:
    """Of a web call: HMAC-SHA-256 over its time, a line feed and its body, base64 (RFC 2104)."""
    text = at.encode() + b"\n" + body
    return base64.b64encode(hmac.digest(secret.encode(), text, "sha256")).decode()
