"""The four rights, and the one table that says which call needs which.

A right includes those before it.
"""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum
from functools import lru_cache
from typing import Any, NamedTuple, cast

from rest_framework.exceptions import MethodNotAllowed
from rest_framework.permissions import BasePermission
from rest_framework.request import Request

from pinecart.service.config.refusals import RightMissing


class Right(StrEnum):
    LOOK = "look"
    OPERATE = "operate"
    DEFINE = "define"
    ADMINISTER = "administer"


ORDER = list(Right)
LOOK, OPERATE, DEFINE, ADMINISTER = ORDER
OPEN = None  # no right needed

ANYBODY = "anybody"
OWN = "what is one's own"
SHOWN = "what is shown: each by its labels"
JOB = "the job's labels, and to define it `operate` on its stores'"
RUN = "the run's labels"
STORE = "the store's labels"
STORES = "both stores' labels"
ALL = "everything: no label is enough"
# on what → (address name, method) → the right that the call needs there. A completeness test holds
# it whole.
ASKS: dict[str, dict[tuple[str, str], Right | None]] = {
    ANYBODY: {
        ("health", "GET"): OPEN,
        ("health-ready", "GET"): OPEN,
        ("schema", "GET"): OPEN,
        ("forms", "GET"): OPEN,
        ("job-schema", "GET"): OPEN,
        ("report-schema", "GET"): OPEN,
        ("session", "GET"): OPEN,
        ("session", "POST"): OPEN,
        ("session", "DELETE"): OPEN,
        ("entry", "POST"): OPEN,
    },
    OWN: {
        ("tokens", "GET"): LOOK,
        ("tokens", "POST"): LOOK,
        ("token", "DELETE"): LOOK,
        ("own-password", "PUT"): LOOK,
        ("sessions", "GET"): LOOK,
        ("session-one", "DELETE"): LOOK,
        ("second-factor", "POST"): LOOK,
        ("second-factor", "PUT"): LOOK,
        ("second-factor-off", "POST"): LOOK,
        ("watch", "POST"): LOOK,
        ("watch", "DELETE"): LOOK,
    },
    SHOWN: {
        ("today", "GET"): LOOK,
        ("today-picture", "GET"): LOOK,
        ("weeks", "GET"): LOOK,
        ("inventories", "GET"): LOOK,
        ("stores", "GET"): LOOK,
        ("stores-at", "POST"): LOOK,
        ("jobs", "GET"): LOOK,
        ("job-files", "GET"): LOOK,
        ("schedule", "GET"): LOOK,
        ("schedule-calendar", "GET"): LOOK,
        ("triggers", "GET"): LOOK,
        ("runs", "GET"): LOOK,
        ("audits", "GET"): LOOK,
        ("find", "GET"): LOOK,
        ("proof-key", "GET"): LOOK,
        ("settings", "GET"): LOOK,
        ("store-go-on", "POST"): OPERATE,
        ("demo-arrive", "POST"): OPERATE,
    },
    JOB: {
        ("jobs", "POST"): DEFINE,
        ("jobs-check", "POST"): DEFINE,
        ("jobs-look", "POST"): DEFINE,
        ("jobs-count", "POST"): DEFINE,
        ("job-files", "POST"): DEFINE,
        ("job", "GET"): LOOK,
        ("job", "PUT"): DEFINE,
        ("job", "DELETE"): DEFINE,
        ("job-versions", "GET"): LOOK,
        ("job-explain", "GET"): LOOK,
        ("job-back", "POST"): DEFINE,
        ("job-switch", "POST"): DEFINE,
        ("job-copy", "POST"): DEFINE,
        ("job-start", "POST"): OPERATE,
        ("job-call", "POST"): OPERATE,
        ("job-preview", "POST"): OPERATE,
        ("job-audit", "POST"): OPERATE,
        ("watches", "POST"): OPERATE,
    },
    RUN: {
        ("run", "GET"): LOOK,
        ("run-definition", "GET"): LOOK,
        ("run-objects", "GET"): LOOK,
        ("run-log", "GET"): LOOK,
        ("run-log-file", "GET"): LOOK,
        ("run-report", "GET"): LOOK,
        ("run-proof", "GET"): LOOK,
        ("run-compare", "GET"): LOOK,
        ("run-events", "GET"): LOOK,
        ("run-stop", "POST"): OPERATE,
        ("run-pause", "POST"): OPERATE,
        ("run-limit", "POST"): OPERATE,
        ("run-resume", "POST"): OPERATE,
        ("run-retry", "POST"): OPERATE,
        ("run-release", "POST"): OPERATE,
        ("run-decline", "POST"): OPERATE,
        ("run-undo", "POST"): OPERATE,
        ("run-keep", "POST"): DEFINE,
        ("preview-start", "POST"): OPERATE,
        ("audit", "GET"): LOOK,
        ("inventory", "GET"): LOOK,
        ("audit-findings", "GET"): LOOK,
        ("audit-repair", "POST"): DEFINE,
        ("preview", "GET"): LOOK,
        ("preview-folders", "GET"): LOOK,
        ("preview-objects", "GET"): LOOK,
    },
    STORE: {
        ("inventories", "POST"): OPERATE,
        ("store", "GET"): LOOK,
        ("store-browse", "GET"): LOOK,
        ("store-head", "GET"): LOOK,
        ("store-versions", "GET"): LOOK,
        ("store-buckets", "GET"): LOOK,
        ("store-save", "GET"): OPERATE,
        ("store-archive", "GET"): OPERATE,
        ("store-files", "POST"): OPERATE,
        ("store-try", "POST"): DEFINE,
        ("store-buckets", "POST"): DEFINE,
        ("removals", "POST"): DEFINE,
    },
    STORES: {
        ("carries", "POST"): OPERATE,
        ("audits-places", "POST"): OPERATE,
        ("carries-check", "POST"): OPERATE,
        ("sides", "GET"): LOOK,
    },
    ALL: {
        ("stores", "POST"): ADMINISTER,
        ("stores-try", "POST"): ADMINISTER,
        ("stores-pasted", "POST"): ADMINISTER,
        ("store", "PATCH"): ADMINISTER,
        ("store", "DELETE"): ADMINISTER,
        ("store-bucket", "DELETE"): ADMINISTER,
        ("people", "GET"): ADMINISTER,
        ("people", "POST"): ADMINISTER,
        ("person", "PATCH"): ADMINISTER,
        ("entry-code", "POST"): ADMINISTER,
        ("metrics", "GET"): LOOK,
        ("trail", "GET"): ADMINISTER,
        ("trail-verify", "GET"): ADMINISTER,
        ("trail-export", "GET"): ADMINISTER,
        ("trail-key", "GET"): ADMINISTER,
        ("settings", "PUT"): ADMINISTER,
        ("room", "GET"): ADMINISTER,
        ("go-on", "POST"): ADMINISTER,
        ("notices", "GET"): ADMINISTER,
        ("notices", "POST"): ADMINISTER,
        ("notice", "PATCH"): ADMINISTER,
        ("notice", "DELETE"): ADMINISTER,
        ("notice-try", "POST"): ADMINISTER,
        ("deliveries", "GET"): ADMINISTER,
        ("mail", "GET"): ADMINISTER,
        ("mail", "PUT"): ADMINISTER,
    },
}
CALL_OF_TOKEN = ("job-call", "POST")  # all that a token may that only starts a job
CALL_OF_CALENDAR = ("schedule-calendar", "GET")
WITHOUT_FACTOR = {("second-factor", "POST"), ("second-factor", "PUT"), ("own-password", "PUT")}
TABLE = {call: (right, on) for on, calls in ASKS.items() for call, right in calls.items()}


@lru_cache(1000)
def _labels_with(right: Right, grants: tuple[tuple[str, str], ...]) -> frozenset[str]:
    """For which labels these grants hold this right; empty text: for all."""
    enough = {r.value for r in ORDER[ORDER.index(right) :]}
    return frozenset(label for granted, label in grants if granted in enough)


class Actor(NamedTuple):
    """Who acts. grants: (right, label); an empty label stands for everything.

    token, sign_in: the number of the token or of the session it acts by.   lacks_factor: it has to
    set up a second factor first.   starts: its token may start this job, and do nothing else.
    reads_calendar: its token may read the schedule as a calendar, and do nothing else.
    address: from where it asks, as far as that is known.
    """

    name: str
    grants: tuple[tuple[str, str], ...]
    user_id: int | None = None
    token: int | None = None
    sign_in: int | None = None
    lacks_factor: bool = False
    starts: str = ""
    reads_calendar: bool = False
    address: str = ""

    def may(self, right: Right, labels: Iterable[str] | None = None) -> bool:
        """Whether a grant covers this right; labels None: anywhere at all; else on something with
        these labels.
        """
        fitting = _labels_with(right, self.grants)
        if labels is None:
            return bool(fitting)
        return "" in fitting or not fitting.isdisjoint(labels)

    def must(self, right: Right, labels: Iterable[str] | None = None, what: str = "this") -> None:
        """Raises NotAllowed, naming the right."""
        if not self.may(right, labels):
            message = (
                f"{self.name} may not do {what}: it needs the right {right.value!r}. Ask an "
                "administrator for it."
            )
            raise RightMissing(message, right=right.value)


SYSTEM = Actor("Pine Cart", ((ADMINISTER.value, ""),))


class ByTable(BasePermission):
    """Lets a request through if its right, by the table, is held somewhere, or on everything;
    services then check the labels.
    """

    def has_permission(self, request: Request, view: Any) -> bool:
        """By one table for all calls: one that isn't in it is refused to everybody. Raises what it
        lacks, so that it can be told.
        """
        match = request.resolver_match
        name = match.url_name or "" if match else ""
        method = request.method or ""
        call = (name, "GET" if method == "HEAD" else method)
        if call not in TABLE:
            raise MethodNotAllowed(method)
        right, on = TABLE[call]
        if right is OPEN:
            return True
        if not isinstance(request.user, SignedIn):
            return False
        actor = request.user.actor
        started = match.kwargs.get("name") if match and call == CALL_OF_TOKEN else None
        if actor.starts and started != actor.starts:
            message = f"This token may start the job {actor.starts!r}, and do nothing else."
            raise RightMissing(message, code="token.only-starts")
        if actor.reads_calendar and call != CALL_OF_CALENDAR:
            message = "This token may read the schedule as a calendar, and do nothing else."
            raise RightMissing(message, code="token.only-calendar")
        if actor.lacks_factor and call not in WITHOUT_FACTOR:
            message = (
                "Administrators need a second factor here. Sign in by a browser and set it up: "
                "your name, Second factor."
            )
            raise RightMissing(message, code="second-factor.due")
        labels = () if on == ALL else None
        actor.must(right, labels, f"{method} {name}")
        return True


def actor_in(request: Request) -> Actor:
    """Who sends a request that was let through."""
    return cast(SignedIn, request.user).actor


class SignedIn:
    """What DRF calls the user: the actor, and how to know whether it still may."""

    is_authenticated = True

    def __init__(self, actor: Actor) -> None:
        self.actor = actor
        self.pk = actor.user_id
