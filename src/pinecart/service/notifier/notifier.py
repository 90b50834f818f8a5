"""Looks what people are to be told of, and sends it: at least once, in order, gathered."""

from __future__ import annotations

import logging
from collections import Counter
from collections.abc import Callable, Sequence
from datetime import date, datetime, time, timedelta

from pinecart.core.dated_places import zone_of
from pinecart.core.definition import Definition
from pinecart.core.expectations import DAY, expected_of, last_deadline, unmet_of
from pinecart.core.happenings import Happening, Kind, kind_of_run
from pinecart.core.totals import files_text, size_text
from pinecart.service.jobs.selectors import jobs_expecting
from pinecart.service.jobs.services.due import due_after
from pinecart.service.notices.selectors import Rule, due_together, happening_of
from pinecart.service.notices.sending import NotSent, send
from pinecart.service.notices.services import (
    awaited_no_more,
    happened,
    not_sent,
    seen_up_to,
    sent,
    set_seen,
)
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.presentation import run_told
from pinecart.service.runs.selectors import runs_numbered
from pinecart.service.runs.selectors.history import (
    StateEvent,
    ended_on,
    last_ended,
    last_new,
    outcome_before,
    states_after,
    unusual_in,
)
from pinecart.service.trail.selectors import heads_signed

log = logging.getLogger("pinecart.service")
LOOK_EVERY = timedelta(seconds=10)
EVENTS = 200
KINDS = {"transfer": "runs", "audit": "audits"}

Sends = Callable[[Rule, Sequence[Happening], datetime], None]


class Notifier:
    """sends: how a message leaves."""

    def __init__(self, sends: Sends = send) -> None:
        self._sends = sends
        self._looked_at: datetime | None = None
        self._day = ""

    def turn(self, now: datetime) -> None:
        """What ended, what did not come, the day's message, then all that is due to be sent: a
        notice leaves in the turn that finds its reason.
        """
        self._see_runs()
        if self._looked_at is None or now - self._looked_at >= LOOK_EVERY:
            self._looked_at = now
            for job in jobs_expecting():
                self._look_at(job.definition, job.since, now)
        self._tell_day(now)
        self._deliver(now)

    def close(self) -> None:
        """Nothing is held."""

    # --- what happens

    def _see_runs(self) -> None:
        """Each run that ended, or waits for a person, once."""
        seen = seen_up_to()
        while events := states_after(seen, EVENTS):
            numbers = [event.run for event in events]
            runs = {run.pk: run for run in runs_numbered(numbers)}
            for event in events:
                run = runs.get(event.run)
                if run is not None and run.kind in KINDS:
                    _see_run(run, event)
            seen = events[-1].pk
            set_seen(seen)

    def _look_at(self, definition: Definition, since: datetime, now: datetime) -> None:
        """What is expected of a job: told once for each thing that hasn't come."""
        zone = zone_of(definition)
        expected = expected_of(
            definition["expect_new"], definition["expect_by"], definition["expect_files"], zone
        )
        latest = last_new(definition.job) if expected.new else None
        unmet = unmet_of(
            definition.job,
            expected,
            now=now,
            last_new=latest or since,
            last=last_ended(definition.job),
            was_due=expected.by is not None and _was_due(definition, expected.by, zone, since, now),
        )
        for one in unmet:
            path = f"/runs/{one.run}" if one.run else f"/jobs/{definition.job}"
            labels = definition.labels
            happened(one.id, one.kind, definition.job, labels, now, one.words, path, one.run)
        awaited_no_more(definition.job, {one.id for one in unmet}, now)

    def _tell_day(self, now: datetime) -> None:
        """Once a day: what the day before came to; the head of the trail, to be kept elsewhere."""
        day = f"{now:%Y-%m-%d}"
        if day == self._day:
            return
        self._day = day
        for head in heads_signed():
            words = (
                f"{_day_told(now.date() - DAY)} Head of the trail, to be kept: "
                f"{head.lines}:{head.digest} ({head.at})."
            )
            happened(f"day-{day}", Kind.DAY, "", [], now, words, "/trail")

    # --- on its way

    def _deliver(self, now: datetime) -> None:
        """Each rule's together. One that can't be sent waits longer and longer, and holds up no
        other.
        """
        for rule, waiting in due_together(now):
            numbers = [delivery.pk for delivery in waiting]
            happenings = [happening_of(delivery.happening) for delivery in waiting]
            try:
                self._sends(rule, happenings, now)
            except NotSent as exc:
                log.warning("Notice %s could not be sent: %s", rule.pk, exc)
                not_sent(numbers, str(exc), now)
            else:
                sent(numbers, now)


def _see_run(run: RunFacts, event: StateEvent) -> None:
    """What is to be told of it, if anything."""
    before = outcome_before(run.job, run.pk) if run.kind == "transfer" else ""
    kind = kind_of_run(event.state, event.outcome, before)
    if kind is None:
        return
    name = f"run-{run.pk}-{kind.value}"
    if kind is Kind.HELD:  # which it may be more than once
        name += f"-{event.pk}"
    words = run_told(run)["sentence"]
    if run.message:
        words += f" {run.message}"
    at = run.ended_at or run.held_at or run.queued_at
    path = f"/{KINDS[run.kind]}/{run.pk}"
    happened(name, kind, run.job, run.labels, at, words, path, run.pk)
    unusual = " ".join(unusual_in(run))
    if unusual:
        name = f"run-{run.pk}-unusual"
        happened(name, Kind.UNUSUAL, run.job, run.labels, at, unusual, path, run.pk)


def _day_told(day: date) -> str:
    """What all runs of a day came to."""
    runs = ended_on(day, day + DAY)
    if not runs:
        return f"On {day} (UTC) no run ended."
    outcomes = Counter(run.outcome for run in runs)
    came_to = [f"{n} {outcome}" for outcome, n in outcomes.most_common()]
    files = size = 0
    for run in runs:
        files += run.files
        size += run.bytes
    count = "1 run" if len(runs) == 1 else f"{len(runs)} runs"
    carried = f"{files_text(files)}, {size_text(size)} carried"
    return f"On {day} (UTC) {count} ended: {', '.join(came_to)}; {carried}."


def _was_due(definition: Definition, by: time, zone: str, since: datetime, now: datetime) -> bool:
    """Whether it was to run within the day before the last deadline; one without a clock daily."""
    deadline = last_deadline(by, zone, now)
    if since > deadline:
        return False
    due = due_after(definition, deadline - DAY)
    return definition.trigger is None or (due is not None and due <= deadline)
