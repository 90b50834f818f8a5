"""What runs came to, one after another."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, date, datetime, time, timedelta
from typing import Any, NamedTuple

from django.db.models import Q

from pinecart.core.expectations import DAY, LastRun
from pinecart.core.happenings import GOOD
from pinecart.core.lifecycle import ALIVE
from pinecart.core.option_spec import CARRY, REMOVE
from pinecart.core.totals import CARRIES
from pinecart.core.unusual import LATEST, Came, unusual_of
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.models import Run, RunEvent, RunTally

ONE_OFF = (CARRY, REMOVE)  # each is about something else
COUNTED = (*GOOD, "problems")  # of what such a run came to others can be told
Groups = Sequence[Mapping[str, Any]]


class StateEvent(NamedTuple):
    """A run came to this state."""

    pk: int
    run: int
    state: str
    outcome: str


def states_after(number: int, limit: int) -> list[StateEvent]:
    """In their order."""
    events = RunEvent.objects.filter(pk__gt=number, kind="state").order_by("pk")
    rows = events.values_list("pk", "run_id", "payload")
    found = []
    for pk, run, told in rows[:limit]:
        event = StateEvent(pk, run, told["state"], told["outcome"])
        found.append(event)
    return found


def outcome_before(job: str, number: int) -> str:
    """How the run of a job before this one ended, those left out that were skipped or stopped."""
    ended = Run.objects.filter(job=job, kind="transfer", state="ended")
    earlier = ended.filter(pk__lt=number)
    counted = earlier.exclude(outcome__in=("skipped", "stopped"))
    in_order = counted.order_by("-pk")
    outcomes = in_order.values_list("outcome", flat=True)
    return outcomes.first() or ""


def last_ended(job: str) -> LastRun | None:
    """The last run of a job that wasn't skipped."""
    ended = Run.objects.filter(job=job, kind="transfer", state="ended")
    run = ended.exclude(outcome="skipped").order_by("-ended_at").first()
    if run is None or run.ended_at is None:
        return None
    files = _carried(run.summed)
    is_good = run.outcome in GOOD
    return LastRun(run.pk, run.ended_at, files, is_good)


def unusual_in(run: RunFacts) -> list[str]:
    """What is unlike the runs of its job before it. Of one that carried all that it was to."""
    if run.kind != "transfer" or run.job in ONE_OFF or run.ended_at is None:
        return []
    if run.outcome not in COUNTED or run.part:
        return []
    earlier = Run.objects.filter(job=run.job, kind="transfer", pk__lt=run.pk)
    that_count = earlier.filter(outcome__in=COUNTED).order_by("-pk")
    rows = that_count.values_list("ended_at", "started_at", "released", "summed", "part")
    before = [_came(*row) for *row, part in rows[:LATEST] if not part]
    now = _came(run.ended_at, run.started_at, run.released, run.summed)
    return unusual_of(now, before)


def _lasted_s(started: datetime | None, ended: datetime) -> float | None:
    """None: it never began."""
    if started is None:
        return None
    lasted = ended - started
    return lasted.total_seconds()


def _came(
    ended: datetime, started: datetime | None, released: Sequence[str], summed: Groups
) -> Came:
    """What a run came to. It has no time of its own where it waited for somebody's yes."""
    seconds = _lasted_s(started, ended)
    if released:  # it waited for a person
        seconds = None
    removed = 0
    for group in summed:
        if group["done"] and group["decision"] == "remove":
            removed += group["n"]
    return Came(ended, _carried(summed), _carried_bytes(summed), removed, seconds)


def last_new(job: str) -> datetime | None:
    """When a run of a job last carried anything."""
    ended = Run.objects.filter(job=job, kind="transfer", state="ended").order_by("-ended_at")
    for summed, ended_at in ended.values_list("summed", "ended_at").iterator(50):
        if _carried(summed):
            return ended_at
    return None


def _carried(summed: Groups) -> int:
    """Files that were copied or replaced."""
    done = (group for group in summed if group["done"] and not group["folder"])
    return sum(group["n"] for group in done if group["decision"] in CARRIES)


def _carried_bytes(summed: Groups) -> int:
    return sum(g["b"] for g in summed if g["done"] and g["decision"] in CARRIES)


def tallies() -> list[RunTally]:
    """One for each outcome."""
    return list(RunTally.objects.order_by("outcome"))


def under_way() -> dict[str, int]:
    """state → runs of any kind that haven't ended."""
    found = dict.fromkeys((state.value for state in ALIVE), 0)
    rows = Run.objects.filter(state__in=list(found)).values_list("state", flat=True)
    for state in rows:
        found[state] += 1
    return found


def run_before(run: RunFacts) -> int | None:
    """The run of the same job before this one, skipped ones left out."""
    ended = Run.objects.filter(job=run.job, kind=run.kind, state="ended")
    earlier = ended.filter(pk__lt=run.pk)
    counted = earlier.exclude(outcome="skipped")
    in_order = counted.order_by("-pk")
    numbers = in_order.values_list("pk", flat=True)
    return numbers.first()


class RunBar(NamedTuple):
    """One run as a bar over time. mark: its outcome, or its state while it goes on."""

    id: int
    job: str
    mark: str
    started_at: datetime
    ended_at: datetime | None


MOST_BARS = 3000


def bars_since(moment: datetime) -> list[RunBar]:
    """The runs that were under way after `moment`, the oldest first; skipped ones too."""
    is_open = Q(ended_at=None)
    ended_later = Q(ended_at__gte=moment)
    runs = Run.objects.filter(is_open | ended_later, kind="transfer")
    in_order = runs.order_by("-id")
    fields = ("pk", "job", "outcome", "state", "queued_at", "started_at", "ended_at")
    rows = in_order.values_list(*fields)[:MOST_BARS]
    found = []
    for pk, job, outcome, state, queued, started, ended in rows:
        bar = RunBar(pk, job, outcome or state, started or queued, ended)
        found.append(bar)
    found.reverse()
    return found


class Bygone(NamedTuple):
    """A transfer that has ended. problems: files that it listed as such."""

    id: int
    job: str
    labels: list[str]
    outcome: str
    ended_at: datetime
    seconds: float | None
    files: int
    bytes: int
    problems: int


_KNOWN: dict[date, dict[int, Bygone]] = {}  # what has ended doesn't change any more
MOST_DAYS = 100
LATE = timedelta(minutes=1)  # a run is written down at most so long after it ended


def ended_on(day: date, today: date) -> list[Bygone]:
    """The transfers that ended on a day (UTC), in that order; skipped ones too."""
    begin = datetime.combine(day, time(), UTC)
    known = _KNOWN.get(day)
    if known is None or day >= today - DAY:  # more may have ended since
        known = known or {}
        latest = max((run.ended_at for run in known.values()), default=begin)
        since = max(latest - LATE, begin)
        newer = {run.id: run for run in _ended_between(since, begin + DAY)}
        known = known | newer
        while len(_KNOWN) >= MOST_DAYS:
            oldest = min(_KNOWN)
            del _KNOWN[oldest]
        _KNOWN[day] = known
    return sorted(known.values(), key=lambda run: run.ended_at)


def _ended_between(since: datetime, until: datetime) -> Iterator[Bygone]:
    """until: not itself."""
    ended = Run.objects.filter(kind="transfer", ended_at__gte=since, ended_at__lt=until)
    fields = ("pk", "job", "labels", "outcome", "started_at", "ended_at", "summed")
    rows = ended.values_list(*fields)
    for number, job, labels, outcome, started_at, ended_at, summed in rows:
        seconds = _lasted_s(started_at, ended_at)
        files = _carried(summed)
        size = _carried_bytes(summed)
        problems = sum(group["n"] for group in summed if group["error"])
        yield Bygone(number, job, labels, outcome, ended_at, seconds, files, size, problems)
