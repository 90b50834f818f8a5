"""A preview, carried out exactly as it was seen."""

from __future__ import annotations

from pinecart.core.definition import use_of
from pinecart.core.definition_reading import read_definition
from pinecart.core.option_spec import JOB
from pinecart.core.part import read_part
from pinecart.service.config.refusals import StateConflict
from pinecart.service.config.rights import Actor
from pinecart.service.jobs.selectors import job_named
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.selectors import run_numbered
from pinecart.service.runs.services.life_cycle import start_run


def start_exactly(actor: Actor, number: int) -> RunFacts:
    """Raises NotFound, NotAllowed, Conflict where the preview isn't whole, or its job was changed
    since.
    """
    preview = run_numbered(number, actor, "preview")
    if preview.outcome not in ("clean", "nothing-to-do", "problems") or preview.of is not None:
        message = f"Preview {number} is not whole, or is of an undoing: it can't be carried out."
        raise StateConflict(message, code="preview.not-whole")
    is_of_job = use_of(preview.job) == JOB
    if is_of_job and job_named(preview.job, actor).version != preview.version:
        again = f"pinecart preview {preview.job}"
        message = f"{preview.job!r} was changed since preview {number}. Look ahead again: {again}"
        raise StateConflict(message, code="preview.outdated")
    definition = read_definition(preview.definition)
    part = read_part(preview.part, len(definition.legs))
    return start_run(
        actor,
        definition,
        kind="transfer",
        cause=f"started by {actor.name}",
        alone=is_of_job,
        part=part._replace(exactly=number),
        version=preview.version,
    )
