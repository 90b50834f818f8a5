"""Calls from outside: each starts a job, unless a run of it waits already."""

from __future__ import annotations

from django.db import transaction

from pinecart.core.lifecycle import RunState
from pinecart.service.config.refusals import StateConflict
from pinecart.service.config.rights import Actor, Right
from pinecart.service.jobs.selectors import definition_of, job_named
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.selectors import runs_alive
from pinecart.service.runs.services.life_cycle import start_run


def call_job(actor: Actor, name: str) -> RunFacts:
    """A run that has not begun yet: the one that waits, or a new one.

    Raises NotFound, NotAllowed, Conflict where the job is off.
    """
    record = job_named(name, actor)
    definition = definition_of(record)
    actor.must(Right.OPERATE, definition.labels, f"starting {name!r}")
    if not record.is_on:
        message = (
            f"{name!r} is off: nothing starts it but a person. On again: pinecart job on {name}"
        )
        raise StateConflict(message, code="job.off")
    with transaction.atomic():
        for run in runs_alive(name, "transfer"):
            if run.state == RunState.QUEUED.value and not run.part:
                return run
        cause = f"a call from outside, by {actor.name}"
        return start_run(
            actor, definition, kind="transfer", cause=cause, alone=False, version=record.version
        )
