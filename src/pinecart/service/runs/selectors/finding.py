"""Files by a part of their names: every place where runs touched such a one."""

from __future__ import annotations

from collections.abc import Iterator

from django.db.models import F, QuerySet

from pinecart.core.places import key_fields
from pinecart.json_object import JsonObject
from pinecart.service.config.rights import Actor, Right
from pinecart.service.runs.models import RecordRow
from pinecart.service.runs.name_index import can_find, indexed_up_to, numbers_found
from pinecart.service.runs.selectors.records import position_in

CHUNK = 500
MOST_LOOKED_AT = 20_000  # names that the index finds, and that are looked at once more

# What is told of a file's places, and of the runs that touched it there.
PLACE_FIELDS = ("leg", "key", "decision", "reason", "size", "done", "error", "crc", "proof")
PLACE_FIELDS_OF_RUN = ("job", "kind", "labels", "definition", "started_at", "ended_at")


def places_of_name(actor: Actor, name: str, *, limit: int) -> list[JsonObject]:
    """Every place of files with this in their name (`*` stands for anything), each with the runs
    that touched it, newest first.
    """
    pattern = name.encode("utf-8", "surrogateescape")
    words = [word for word in pattern.split(b"*") if word]
    if not words:
        return []
    places: dict[tuple[str, str, bytes], JsonObject] = {}
    for row in _records_named(words, limit):
        legs = row.run.definition["legs"]
        if row.leg >= len(legs) or not actor.may(Right.LOOK, row.run.labels):
            continue
        source = legs[row.leg]["from"]
        target = legs[row.leg]["to"]
        key = bytes(row.key)
        place = (source, target, key)
        if place not in places:
            empty: JsonObject = {"from": source, "to": target, "bytes": row.size, "runs": []}
            places[place] = key_fields(key) | empty
        places[place]["runs"].append(_touched(row))
    return [told for _, told in sorted(places.items())]


def _touched(row: RecordRow) -> JsonObject:
    """What a run did there."""
    run = row.run
    return {
        "run": row.run_id,
        "job": run.job,
        "kind": run.kind,
        "decision": row.decision,
        "reason": row.reason,
        "done": row.done,
        "error": row.error,
        "checksum": row.crc,
        "proof": row.proof,
        "at": run.ended_at or run.started_at,
    }


def _records_named(words: list[bytes], limit: int) -> Iterator[RecordRow]:
    """Records whose keys have all of these parts, the newest first."""
    of_run = [f"run__{field}" for field in PLACE_FIELDS_OF_RUN]
    looked_at = RecordRow.objects.select_related("run").only(*PLACE_FIELDS, *of_run)
    rows = _with_parts(looked_at.exclude(run__kind="preview"), words)
    known = indexed_up_to() if can_find(words) else 0
    newest = rows.filter(pk__gt=known).order_by("-id")
    found = 0
    for row in newest[:limit]:
        found += 1
        yield row
    below = known + 1
    count = 0
    while found < limit and below > 1 and count < MOST_LOOKED_AT:
        numbers = numbers_found(words, above=0, below=below, limit=CHUNK, newest_first=True)
        if not numbers:
            return
        below = numbers[-1]
        count += len(numbers)
        some = rows.filter(pk__in=numbers).order_by("-id")
        for row in some[: limit - found]:
            found += 1
            yield row


def _with_parts(rows: QuerySet[RecordRow], words: list[bytes]) -> QuerySet[RecordRow]:
    """Those whose keys have all of these parts."""
    for i, word in enumerate(words):
        name = f"at{i}"
        at = position_in(F("key"), word)
        has_it = {f"{name}__gt": 0}
        rows = rows.annotate(**{name: at}).filter(**has_it)
    return rows
