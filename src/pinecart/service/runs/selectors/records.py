"""What runs wrote down of each object."""

from __future__ import annotations

from array import array
from collections.abc import Collection, Iterator, Sequence
from typing import Any, NamedTuple

from django.db import connection
from django.db.models import (
    BinaryField,
    Count,
    Exists,
    F,
    Func,
    IntegerField,
    OuterRef,
    Q,
    QuerySet,
    Sum,
    Value,
)

from pinecart.core.decide import Decision
from pinecart.core.digests import NUMBERS, digest_of
from pinecart.core.places import key_fields, key_of_text, key_text, show
from pinecart.core.totals import CARRIES, no_totals
from pinecart.json_object import JsonObject
from pinecart.runner.promise import Promise
from pinecart.runner.undo import Done
from pinecart.service.aside.selectors import asides_of
from pinecart.service.ledger.selectors import rows_of
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.models import RecordRow, Run
from pinecart.service.runs.name_index import can_find, indexed_up_to, numbers_found
from pinecart.service.runs.presentation import ACTED, record_payload

PAGE = 5000


LATEST = 200  # runs of a job whose records of one file are looked for


def records_of_key(job: str, leg: int, names: Collection[bytes]) -> list[JsonObject]:
    """What the latest runs of a job did to a file, the newest first: records, each with its run."""
    runs = Run.objects.filter(job=job, kind="transfer").order_by("-id")
    numbers = runs.values_list("pk", flat=True)
    latest = list(numbers[:LATEST])
    records = RecordRow.objects.filter(run_id__in=latest, leg=leg, key__in=names)
    rows = records.order_by("-run_id").values()
    found = []
    for row in rows:
        told = record_payload(dict(row))
        found.append({"run": row["run_id"], **told})
    return found


def placed_by(run: int, most: int) -> list[JsonObject]:
    """What a run copied and replaced, in the order of its records."""
    found = []
    for row in _placed(run)[:most]:
        key = key_fields(bytes(row.key))
        found.append({**key, "bytes": row.size, "checksum": row.crc})
    return found


def placed_in_leg(run: int, leg: int, most: int) -> list[bytes]:
    """Keys of what a leg of a run copied and replaced."""
    keys = _placed(run).filter(leg=leg).values_list("key", flat=True)
    return [bytes(key) for key in keys[:most]]


def _placed(run: int) -> QuerySet[RecordRow]:
    """Files that a run copied and replaced, in the order of its records."""
    done = RecordRow.objects.filter(run_id=run, done=True, folder=False)
    return done.filter(decision__in=CARRIES).order_by("pk")


def keys_found(audit: int, *, but: str, most: int) -> list[bytes]:
    """Of what an audit found the keys, those with one finding left out."""
    rows = RecordRow.objects.filter(run_id=audit, decision="finding").exclude(reason=but)
    return [bytes(key) for key in rows.values_list("key", flat=True)[:most]]


def objects_recorded(run: int) -> int:
    """Of how many objects a run has written down what it did."""
    groups = Run.objects.values_list("summed", flat=True).get(pk=run)
    return sum(group["n"] for group in groups if group["done"])


def promised_by(preview: int) -> Promise:
    """What a preview would do."""
    seen = array(NUMBERS)
    keys = array(NUMBERS)
    planned = RecordRow.objects.filter(run_id=preview).exclude(seen=None)
    rows = planned.values_list("leg", "key", "seen")
    for leg, key, digest in rows.iterator(5000):
        seen.append(digest or 0)
        of_key = digest_of(leg, bytes(key))
        keys.append(of_key)
    seen_in_order = sorted(seen)
    keys_in_order = sorted(keys)
    return Promise(array(NUMBERS, seen_in_order), array(NUMBERS, keys_in_order))


def overtaken_page(
    preview: int, run: int, leg: int, after: int, limit: int = PAGE
) -> tuple[list[tuple[bytes, int]], int]:
    """Keys and sizes of what a preview would do and this run has no record of; and where to go on.

    The last page is empty.
    """
    done = RecordRow.objects.filter(run_id=run, leg=leg, key=OuterRef("key"))
    planned = RecordRow.objects.filter(run_id=preview, leg=leg).exclude(seen=None)
    left = planned.filter(~Exists(done), pk__gt=after)
    rows = left.order_by("pk").values_list("pk", "key", "size")
    found = []
    last = 0
    for pk, key, size in rows[:limit]:
        found.append((bytes(key), size))
        last = pk
    return found, last


class RecordsWanted(NamedTuple):
    """Which records. decision: or a reason.   held: only what waits for a person.   leg: from 1; 0:
    all.   prefix: keys that begin so.   text: in a key.   level: only the files of the folder
    `prefix` itself.
    """

    after: int = 0
    limit: int = PAGE
    decision: str = ""
    problems: bool = False
    held: bool = False
    leg: int = 0
    prefix: str = ""
    text: str = ""
    level: bool = False


def records_after(run: RunFacts, wanted: RecordsWanted) -> list[JsonObject]:
    if not _has_any(run, wanted):
        return []
    return [record_payload(row) for row in _page_of(run, wanted)]


def _narrowed(found: QuerySet[RecordRow], wanted: RecordsWanted) -> QuerySet[RecordRow]:
    """Of these records those that are wanted, in their order."""
    found = found.filter(pk__gt=wanted.after).order_by("id")
    if wanted.decision:
        named = Q(decision=wanted.decision) | Q(reason=wanted.decision)
        found = found.filter(named)
    if wanted.problems:
        found = found.exclude(error="")
    if wanted.held:
        found = found.filter(done=False, error="")
    if wanted.leg:
        found = found.filter(leg=wanted.leg - 1)
    prefix = key_of_text(wanted.prefix, field="prefix")
    if prefix:
        found = found.filter(key__gte=prefix, key__lt=after_all(prefix))
    if wanted.text:
        sought = key_of_text(wanted.text, field="text")
        at = position_in(F("key"), sought)
        found = found.annotate(at=at).filter(at__gt=0)
    if wanted.level:
        cut = position_in(_rest(prefix), b"/")
        found = found.annotate(cut=cut).filter(cut=0)
    return found


LARGEST = 3
MOST_ASKED = 200_000
LOOKED_THROUGH = 50_000  # records of a run, more quickly than by an index of all runs' names


def largest_of(run: RunFacts) -> list[JsonObject]:
    """The largest files of a run's records; none, where these are too many to be looked through."""
    count = sum(group["n"] for group in run.summed)
    if count > MOST_ASKED:
        return []
    records = RecordRow.objects.filter(run_id=run.pk)
    in_order = records.order_by("-size", "id")
    rows = in_order.values(*RECORD_FIELDS)[:LARGEST]
    return [record_payload(dict(row)) for row in rows]


def _has_any(run: RunFacts, wanted: RecordsWanted) -> bool:
    """By its sums: a million records aren't looked through for what isn't among them."""
    groups = [group for group in run.summed if group["n"]]
    if wanted.problems:
        groups = [group for group in groups if group["error"]]
    if wanted.held:
        groups = [group for group in groups if not group["done"] and not group["error"]]
    if wanted.decision:
        words = {word for group in groups for word in (group["decision"], group["reason"])}
        return wanted.decision in words
    return bool(groups)


RECORD_FIELDS = [
    field.attname for field in RecordRow._meta.concrete_fields if field.attname != "run_id"
]


def after_all(prefix: bytes) -> bytes:
    """What comes after all keys that begin with it, as keys are ordered."""
    bare = prefix.rstrip(b"\xff")
    if not bare:
        return b"\xff" * (len(prefix) + 1)
    return bare[:-1] + bytes([bare[-1] + 1])


def _rest(prefix: bytes) -> Func:
    """Of a key what follows a prefix."""
    return Func(F("key"), Value(len(prefix) + 1), function="substr", output_field=BinaryField())


def position_in(text: Any, sought: bytes) -> Func:
    """Where it is first, from 1; 0: nowhere."""
    value = Value(sought, output_field=BinaryField())
    return Func(text, value, function="instr", output_field=IntegerField())


MOST_FOLDERS = 1000


def folders_of(run: RunFacts, *, leg: int, prefix: str) -> list[JsonObject]:
    """The folders of one level of a leg, each with counts and bytes by decision; MOST_FOLDERS at
    most.
    """
    at = key_of_text(prefix, field="prefix")
    found = RecordRow.objects.filter(run_id=run.pk, leg=leg - 1)
    if at:
        found = found.filter(key__gte=at, key__lt=after_all(at))
    rest = _rest(at)
    cut = position_in(rest, b"/")
    name = Func(rest, Value(1), cut, function="substr", output_field=BinaryField())
    counted = (
        found.annotate(cut=cut)
        .filter(cut__gt=0)
        .annotate(name=name)
        .values("name", "decision")
        .annotate(n=Count("id"), b=Sum("size"))
        .order_by("name")
    )
    folders: dict[bytes, JsonObject] = {}
    for row in counted[: MOST_FOLDERS * len(Decision)]:
        key = bytes(row["name"])
        folder = folders.setdefault(key, {"key": at + key, "totals": no_totals()})
        total = folder["totals"][row["decision"]]
        total["objects"] = row["n"]
        total["bytes"] = row["b"]
    return [
        {**key_fields(folder["key"]), "totals": folder["totals"]}
        for folder in list(folders.values())[:MOST_FOLDERS]
    ]


_PAGE_OF_A_RUN = (
    "select id, leg, key, decision, reason, size, done, seconds, crc, proof, guarded, cleared, "
    "tries, error, message from runs_recordrow where run_id = %s and id > %s {and_that} "
    "order by id limit %s"
)
PROBLEMS = "and error != ''"
REMOVALS = "and decision = 'remove'"


def all_records(run: RunFacts, and_that: str = "") -> Iterator[JsonObject]:
    """Every record as reports tell it, in pages: no cursor stays open while they are sent. Read
    past Django's models, which take as long as all the rest. and_that: only PROBLEMS, or REMOVALS.
    """
    statement = _PAGE_OF_A_RUN.format(and_that=and_that)
    after = 0
    while True:
        with connection.cursor() as cursor:
            page = cursor.execute(statement, [run.pk, after, PAGE]).fetchall()
        if not page:
            return
        for row in page:
            yield _told_in_a_report(row)
        after = page[-1][0]


def _told_in_a_report(row: Sequence[Any]) -> JsonObject:
    """In the order of the columns that a report has."""
    (_, leg, key, decision, reason, size, done, seconds, crc, proof, *more) = row
    guarded, cleared, tries, error, message = more
    return {
        "leg": leg,
        "key": show(key),
        "decision": decision,
        "reason": reason,
        "bytes": size,
        "done": done == 1,
        "seconds": round(seconds, 4),
        "checksum": crc,
        "proof": proof,
        "guarded": guarded == 1,
        "cleared": cleared == 1,
        "tries": tries,
        "error": error,
        "message": message,
        "key_id": key_text(key),
    }


def _by_index(
    run: RunFacts, part: bytes, wanted: RecordsWanted, above: int, below: int
) -> list[JsonObject]:
    """Of the records between these numbers, which are in the index, the first that fit."""
    rows: list[JsonObject] = []
    while len(rows) < wanted.limit:
        some = numbers_found([part], above=above, below=below, limit=PAGE, newest_first=False)
        left = wanted.limit - len(rows)
        fitting = _by_numbers(run, some, wanted)
        rows += [dict(row) for row in fitting[:left]]
        if len(some) < PAGE:
            break
        above = some[-1]
    return rows


def _page_of(run: RunFacts, wanted: RecordsWanted) -> list[JsonObject]:
    """The first that fit, by the index of names as far as that goes."""
    of_run = RecordRow.objects.filter(run_id=run.pk)
    found = _narrowed(of_run, wanted).values(*RECORD_FIELDS)
    part = key_of_text(wanted.text, field="text")
    count = sum(group["n"] for group in run.summed)
    if count <= LOOKED_THROUGH or not part or not can_find([part]):
        return [dict(row) for row in found[: wanted.limit]]
    numbers = of_run.values_list("pk", flat=True)
    # Asked for together, all of them would be read.
    first = numbers.order_by("pk").first()
    last = numbers.order_by("-pk").first()
    if first is None or last is None:
        return []
    indexed = min(indexed_up_to(), last)
    above = max(first - 1, wanted.after)
    rows = _by_index(run, part, wanted, above, indexed + 1)
    left = wanted.limit - len(rows)
    if left:  # the newest aren't in the index yet
        newest = found.filter(pk__gt=indexed)
        rows += [dict(row) for row in newest[:left]]
    return rows


def _by_numbers(run: RunFacts, numbers: list[int], wanted: RecordsWanted) -> Any:
    """Each is looked up by its own number: said otherwise, SQLite walks through all of the run."""
    own = RecordRow.objects.filter(pk__in=numbers).annotate(own=F("run_id") + 0)
    return _narrowed(own.filter(own=run.pk), wanted).values(*RECORD_FIELDS)


def names_after(number: int, most: int) -> list[tuple[int, bytes]]:
    """(number, key) of the records that come next."""
    rows = RecordRow.objects.filter(pk__gt=number).order_by("pk").values_list("pk", "key")
    return [(pk, bytes(key)) for pk, key in rows[:most]]


def keys_recorded(run: int, leg: int, keys: list[bytes]) -> set[bytes]:
    """Of these keys those of which it is on record that they were done."""
    found = RecordRow.objects.filter(run_id=run, leg=leg, key__in=keys, done=True).values_list(
        "key", flat=True
    )
    return {bytes(key) for key in found}


def done_by(run: int, scopes: list[int], leg: int, after: int) -> tuple[list[Done], int]:
    """A page of what a run did, with what it left there and what it set aside; and where
    to go on.
    """
    acted = RecordRow.objects.filter(run_id=run, leg=leg, done=True, decision__in=ACTED)
    following = acted.filter(pk__gt=after).order_by("id")
    records = list(following[:500])
    keys = [bytes(record.key) for record in records]
    remembered = rows_of(scopes, keys)
    there = {row.key: row.there for row in remembered if row.run == run}
    asides = asides_of(run, leg, keys)
    found = []
    for key, record in zip(keys, records, strict=True):
        decision = record.decision
        is_cleared = record.cleared or decision == "clear"
        far = there.get(key, "")
        here_aside = asides.get(("source", key))
        far_aside = asides.get(("target", key))
        done = Done(key, decision, record.size, far, is_cleared, here_aside, far_aside)
        found.append(done)
        after = record.pk
    return found, after
