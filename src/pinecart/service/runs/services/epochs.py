"""A process works on a run under its epoch; one that lost it writes nothing any more."""

from __future__ import annotations

from pinecart.core.lifecycle import RunState
from pinecart.service.runs.models import (
    Run,
)


class Superseded(Exception):
    """Another process has taken this run up: this one must end."""


def hold_epoch(run: int, epoch: int) -> None:
    """Within a transaction, before anything of the run is written: whoever was replaced writes
    nothing more. Raises Superseded.
    """
    if not Run.objects.filter(pk=run, epoch=epoch, state=RunState.WORKING.value).update(
        epoch=epoch
    ):
        raise Superseded(f"Run {run} has been taken up by another process (epoch {epoch} is over).")
