"""What an audit found, made right: looked at ahead first, then carried out exactly."""

from __future__ import annotations

from pinecart.core.audit import Finding
from pinecart.core.decide import Comparison, Intent, OnDifference
from pinecart.core.definition import use_of
from pinecart.core.definition_reading import read_definition
from pinecart.core.option_spec import JOB
from pinecart.core.part import Part
from pinecart.service.config.refusals import StateConflict
from pinecart.service.config.rights import Actor
from pinecart.service.jobs.selectors import job_named
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.selectors import run_numbered
from pinecart.service.runs.selectors.records import keys_found
from pinecart.service.runs.services.life_cycle import start_run

MOST_FOUND = 20_000


def preview_repair(actor: Actor, number: int) -> RunFacts:
    """What it would take so that there is what is here, of just the files that an audit found:
    copied, replaced, and, where they are only there, removed.

    Raises NotFound, NotAllowed, Conflict where there is nothing to repair, or too much.
    """
    audit = run_numbered(number, actor, "audit")
    if audit.state != "ended":
        raise StateConflict(f"Audit {number} is not over yet.", code="audit.not-over")
    keys = keys_found(number, but=Finding.UNREADABLE.value, most=MOST_FOUND + 1)
    if not keys:
        raise StateConflict(f"Audit {number} found nothing to repair.", code="audit.no-findings")
    if len(keys) > MOST_FOUND:
        message = f"Audit {number} found more than {MOST_FOUND:,} files: run its job instead."
        raise StateConflict(message, code="audit.too-many")
    is_of_job = use_of(audit.job) == JOB
    rules = {
        "intent": Intent.MIRROR.value,
        "compare": Comparison.CHECKSUM.value,
        "on_difference": OnDifference.REPLACE_ALL.value,
    }
    definition = read_definition({**audit.definition, **rules}, carry=not is_of_job)
    return start_run(
        actor,
        definition,
        kind="preview",
        cause=f"repair of audit {number}, by {actor.name}",
        alone=False,
        part=Part(keys=frozenset(keys)),
        version=job_named(audit.job, actor).version if is_of_job else None,
    )
