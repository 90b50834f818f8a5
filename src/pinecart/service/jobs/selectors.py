from __future__ import annotations

import json
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from functools import lru_cache
from typing import Any, NamedTuple

from django.db import connection
from django.db.models import Q

from pinecart.core.definition import Definition
from pinecart.core.definition_reading import read_definition
from pinecart.core.places import closest, did_you_mean
from pinecart.core.triggers import AFTER, CHANGES
from pinecart.json_object import JsonObject
from pinecart.service.config.quick_json import read_json
from pinecart.service.config.refusals import UnknownName
from pinecart.service.config.rights import Actor, Right
from pinecart.service.jobs.facts import JobFacts
from pinecart.service.jobs.models import JobRecord, JobVersion
from pinecart.service.runs.selectors import Latest, bytes_carried, last_runs, recent_runs


def job_named(name: str, actor: Actor) -> JobRecord:
    """Raises NotFound with the names that are like it; also where the actor may not look at it."""
    found = JobRecord.objects.filter(name=name).first()
    if found is None or not actor.may(Right.LOOK, found.definition["labels"]):
        known = [j.name for j in jobs_seen(actor)]
        message = (
            f"There is no job {name!r}.{did_you_mean(name, known)} See them with: pinecart job "
            "list."
        )
        raise UnknownName(message, code="job.unknown", did_you_mean=closest(name, known))
    return found


def last_version(name: str) -> int:
    """The number of the latest version of that name, also of a dropped job's; 0: there was none."""
    found = JobVersion.objects.filter(job=name).order_by("-number").first()
    if found:
        return found.number
    return 0


def versions_of(record: JobRecord) -> list[JobVersion]:
    """The newest first."""
    return list(JobVersion.objects.filter(job=record.name).order_by("-number"))


def version_numbered(record: JobRecord, number: int) -> JobVersion:
    found = JobVersion.objects.filter(job=record.name, number=number).first()
    if found is None:
        message = (
            f"{record.name!r} has no version {number}. See them with: pinecart job versions "
            f"{record.name}."
        )
        raise UnknownName(message, code="job.no-such-version")
    return found


def find_job(name: str) -> JobRecord | None:
    """Whoever asks: for the service itself."""
    return JobRecord.objects.filter(name=name).first()


def jobs_named(names: Collection[str]) -> dict[str, JobRecord]:
    """Of these names those that there are; whoever asks."""
    return {record.name: record for record in JobRecord.objects.filter(name__in=names)}


def job_names() -> list[str]:
    return list(JobRecord.objects.order_by("name").values_list("name", flat=True))


def jobs_seen(actor: Actor) -> list[JobRecord]:
    """For lists: what only one job's page shows isn't read."""
    records = JobRecord.objects.defer("saved_at", "switched_at", "after_seen").order_by("name")
    return [j for j in records if actor.may(Right.LOOK, j.definition["labels"])]


class JobsWanted(NamedTuple):
    """Which of the jobs, and in which order. last: a state, an outcome or "never"."""

    find: str = ""
    label: str = ""
    store: str = ""
    owner: str = ""
    last: str = ""
    is_on: bool | None = None
    sort: str = "job"
    descending: bool = False
    skip: int = 0
    limit: int = 50


class JobLine(NamedTuple):
    """What pages that tell of all jobs look at. definition: to be looked at only, it is shared."""

    pk: int
    name: str
    definition: Mapping[str, Any]
    is_on: bool
    next_due: datetime | None
    saved_at: datetime


class JobSeen(NamedTuple):
    """A job with its latest runs, oldest first."""

    record: JobRecord
    recent: list[JsonObject]
    last_bytes: int


NEVER = datetime.max.replace(tzinfo=UTC)
SORTS: dict[str, Callable[[JobLine, Latest | None], Any]] = {
    "job": lambda line, last: line.name,
    "next": lambda line, last: (line.next_due or NEVER, line.name),
    "last": lambda line, last: (last.queued_at if last else "never", line.name),
    "outcome": lambda line, last: (_word(last), line.name),
}
"""What a list of jobs may be sorted by; each also by the name."""


def _whole(page: Sequence[JobLine]) -> list[JobSeen]:
    """Each with its latest runs; one that was dropped meanwhile is left out."""
    numbers = [line.pk for line in page]
    records = JobRecord.objects.in_bulk(numbers)
    recent = recent_runs([line.name for line in page])
    lasts = {name: runs[-1]["id"] for name, runs in recent.items()}
    carried = bytes_carried(list(lasts.values()))
    found = []
    for line in page:
        record = records.get(line.pk)
        if record is None:
            continue
        runs = recent.get(line.name, [])
        last = lasts.get(line.name, 0)
        found.append(JobSeen(record, runs, carried.get(last, 0)))
    return found


def jobs_found(actor: Actor, wanted: JobsWanted) -> tuple[list[JobSeen], int]:
    """A page of the jobs that are wanted, and how many there are in all."""
    lines = [line for line in lines_seen(actor) if _is_wanted(line, wanted)]
    lasts = {}
    if wanted.last or wanted.sort in ("last", "outcome"):
        lasts = last_runs([line.name for line in lines])
    if wanted.last:
        lines = [line for line in lines if wanted.last in _words(lasts.get(line.name))]
    order = SORTS[wanted.sort]
    lines.sort(key=lambda line: order(line, lasts.get(line.name)), reverse=wanted.descending)
    end = wanted.skip + wanted.limit
    page = lines[wanted.skip : end]
    return _whole(page), len(lines)


_LINES = """
SELECT id, name, definition, is_on, CAST(next_due AS TEXT), CAST(saved_at AS TEXT)
FROM jobs_jobrecord ORDER BY name
"""


def lines_seen(actor: Actor) -> Iterator[JobLine]:
    """Of the jobs that are seen, in the order of their names. Read past Django's models: there may
    be many, and most are only looked through.
    """
    with connection.cursor() as cursor:
        cursor.execute(_LINES)
        rows = cursor.fetchall()
    for number, name, definition, is_on, next_due, saved_at in rows:
        told = _looked_at(definition)
        if actor.may(Right.LOOK, told["labels"]):
            due = _moment(next_due) if next_due else None
            yield JobLine(number, name, told, bool(is_on), due, _moment(saved_at))


@lru_cache(4000)
def _looked_at(text: str) -> Mapping[str, Any]:
    """Of five hundred jobs hardly one changes between two looks."""
    told: Mapping[str, Any] = read_json(text)
    return told


def _moment(text: str) -> datetime:
    """As the database has it, in UTC."""
    return datetime.fromisoformat(f"{text}+00:00")


def _word(last: Latest | None) -> str:
    if last is None:
        return "never"
    return last.outcome or last.state


def _words(last: Latest | None) -> set[str]:
    if last is None:
        return {"never"}
    return {last.state, last.outcome}


def _is_wanted(line: JobLine, wanted: JobsWanted) -> bool:
    definition = line.definition
    if wanted.label and wanted.label not in definition["labels"]:
        return False
    if wanted.owner and wanted.owner != definition["owner"]:
        return False
    if wanted.is_on is not None and wanted.is_on != line.is_on:
        return False
    places = []
    for leg in definition["legs"]:
        places += [leg["from"], leg["to"]]
    if wanted.store and not any(_is_in(place, wanted.store) for place in places):
        return False
    texts = [line.name, definition["title"], definition["why"], *places]
    sought = wanted.find.casefold()
    return any(sought in text.casefold() for text in texts)


def _is_in(place: str, store: str) -> bool:
    return place.startswith(f"pine://{store}/")


def definitions_but(*names: str) -> list[Definition]:
    """Of all jobs but these."""
    return [definition_of(record) for record in JobRecord.objects.exclude(name__in=names)]


def definition_of(record: JobFacts | JobLine) -> Definition:
    """Read once, as long as it is the same: a definition is never changed, only saved anew."""
    return _definition_in(json.dumps(record.definition))


@lru_cache(2000)
def _definition_in(text: str) -> Definition:
    return read_definition(json.loads(text))


def jobs_after_others() -> list[JobRecord]:
    """Those that are on and start after runs of other jobs."""
    return list(JobRecord.objects.filter(is_on=True, definition__schedule__kind=AFTER.kind))


def jobs_at_changes() -> list[JobRecord]:
    """Those that start when something changes at their source, also the ones that are off."""
    return list(JobRecord.objects.filter(definition__schedule__kind=CHANGES.kind))


def days_of_jobs() -> dict[str, int]:
    """Job → how long its records are kept, where it has a period of its own."""
    own = JobRecord.objects.filter(definition__has_key="keep_records")
    return {record.name: int(record.definition["keep_records"]) for record in own}


class Expecting(NamedTuple):
    """A job of which something is expected, since it was first saved."""

    definition: Definition
    since: datetime


def jobs_expecting() -> list[Expecting]:
    """Those that are on, and of whose runs something is expected."""
    asked = Q()
    for name in ("expect_new", "expect_by", "expect_files"):
        asked |= Q(definition__has_key=name)
    found = []
    for record in JobRecord.objects.filter(asked, is_on=True):
        first = JobVersion.objects.filter(job=record.name).order_by("number").first()
        since = first.saved_at if first else record.saved_at
        found.append(Expecting(definition_of(record), since))
    return found


def audits_due(now: datetime) -> list[JobRecord]:
    due = JobRecord.objects.filter(is_on=True, next_audit__lte=now)
    return list(due.order_by("next_audit"))


def jobs_due(now: datetime) -> list[JobRecord]:
    return list(JobRecord.objects.filter(is_on=True, next_due__lte=now).order_by("next_due"))
