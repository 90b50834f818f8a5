from __future__ import annotations

from array import array
from collections.abc import Collection, Mapping
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import F, Q
from django.utils import timezone

from pinecart.core.definition import Definition
from pinecart.core.definition_reading import read_definition
from pinecart.core.digests import NUMBERS
from pinecart.core.part import Part
from pinecart.json_object import JsonObject
from pinecart.service.config.rights import SYSTEM, Actor
from pinecart.service.jobs.selectors import definition_of, job_named
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.services.life_cycle import right_to_run, start_run
from pinecart.service.trail.services import change
from pinecart.service.triggers.facts import WatchFacts
from pinecart.service.triggers.models import Watch
from pinecart.service.triggers.selectors import watch_numbered

KEPT_FOR = timedelta(seconds=60)  # a watch ends, so long after it was last asked for


def begin_watch(actor: Actor, name: str, carry: Definition | None) -> Watch:
    """Watch a job's source, or a one-off transfer's, for as long as somebody keeps asking for it.

    name: the job's; empty: it is the transfer's. Raises NotFound, NotAllowed.
    """
    definition = carry or _of_job(name, actor)
    with change(actor) as made:
        right = right_to_run("transfer", definition)
        made.must(right, definition.labels, f"starting {definition.job!r} at each change")
        watch = Watch.objects.create(
            job=definition.job,
            carry=carry and carry.as_mapping(),
            until=timezone.now() + KEPT_FOR,
            by=actor.name,
        )
        made.note("watch.begun", definition.job, watch=watch.pk)
    return watch


def keep_watch(actor: Actor, number: int) -> Watch:
    """Go on for another minute. Raises NotFound, NotAllowed where the right is gone meanwhile."""
    watch = watch_numbered(number, actor)
    carry = watch.carry
    definition = read_definition(carry) if carry else _of_job(watch.job, actor)
    right = right_to_run("transfer", definition)
    what = f"starting {definition.job!r} at each change"
    actor.must(right, definition.labels, what)
    until = timezone.now() + KEPT_FOR
    Watch.objects.filter(pk=number).update(until=until)
    return watch


def _of_job(name: str, actor: Actor) -> Definition:
    return definition_of(job_named(name, actor))


def end_watch(actor: Actor, number: int) -> None:
    """Raises NotFound."""
    watch_numbered(number, actor).delete()


def make_watches(jobs: Collection[str]) -> None:
    """Of the triggers of these jobs, where there are none yet."""
    kept = Watch.objects.filter(until=None, job__in=jobs)
    there = kept.values_list("job", flat=True)
    missing = set(jobs) - set(there)
    for job in sorted(missing):
        Watch.objects.create(job=job)


def clear_watches(jobs: list[str], now: datetime) -> None:
    """What nobody keeps up any more, and what belongs to other jobs than these.

    Asked every second, and hardly ever anything is: nothing is written then.
    """
    is_over = Q(until__lte=now)
    is_nobodys = Q(until=None) & ~Q(job__in=jobs)
    old = Watch.objects.filter(is_over | is_nobodys)
    if old.exists():
        old.delete()


def tell_watch(number: int, facts: Mapping[str, Any]) -> None:
    Watch.objects.filter(pk=number).update(**facts)


def start_watched(
    watch: WatchFacts,
    definition: Definition,
    version: int | None,
    settled_s: int,
    *,
    cause: str,
    known: array[int],
    facts: JsonObject,
) -> RunFacts:
    """Start what was noticed; what is known then is kept together with it. Raises Conflict."""
    with transaction.atomic():
        run = start_run(
            SYSTEM,
            definition,
            kind="transfer",
            cause=cause,
            part=Part(settled_s=settled_s),
            version=version,
        )
        kept = {"known": known.tobytes(), "run": run.pk, "run_at": run.queued_at}
        Watch.objects.filter(pk=watch.pk).update(**kept, runs=F("runs") + 1, **facts)
    return run


def known_of(watch: WatchFacts, digest: str) -> array[int]:
    """What was there when the last run was started; nothing, where places or rules were others."""
    known = array(NUMBERS)
    if watch.digest == digest:
        known.frombytes(bytes(watch.known))
    return known
