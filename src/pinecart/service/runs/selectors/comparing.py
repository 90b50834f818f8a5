"""What two runs of a job did differently."""

from __future__ import annotations

from django.db.models import Exists, OuterRef, Q

from pinecart.core.totals import CARRIES
from pinecart.json_object import JsonObject
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.models import RecordRow
from pinecart.service.runs.presentation import record_payload
from pinecart.service.runs.selectors.records import RECORD_FIELDS

NOTHING: JsonObject = {"objects": 0, "files": []}
FIRST_FILES = 200


MOST_COUNTED = 10_000  # more are told as one more than that
CARRIED = Q(done=True, folder=False, decision__in=CARRIES)
PROBLEM = ~Q(error="")


def compared(run: RunFacts, other: RunFacts) -> JsonObject:
    """What one run carried and another didn't, and which problems only one of them had."""
    return {
        "run": run.pk,
        "other": other.pk,
        "carried_here": _carried_only_in(run, other),
        "carried_there": _carried_only_in(other, run),
        "new_problems": _problems_only_in(run, other),
        "gone_problems": _problems_only_in(other, run),
    }


def _carried_only_in(run: RunFacts, other: RunFacts) -> JsonObject:
    """Where the sums say that the run carried nothing, its records aren't walked through for
    that.
    """
    has_any = any(group["decision"] in CARRIES for group in run.summed)
    if has_any:
        return _only_in(run.pk, other.pk, CARRIED)
    return NOTHING


def _problems_only_in(run: RunFacts, other: RunFacts) -> JsonObject:
    """Where the sums say that the run had no problem, its records aren't walked through for
    that.
    """
    has_any = any(group["error"] for group in run.summed)
    if has_any:
        return _only_in(run.pk, other.pk, PROBLEM)
    return NOTHING


def _only_in(run: int, other: int, wanted: Q) -> JsonObject:
    """How many records one run has and another hasn't, and the first of them."""
    leg = OuterRef("leg")
    key = OuterRef("key")
    in_other = RecordRow.objects.filter(wanted, run_id=other, leg=leg, key=key)
    is_only_here = ~Exists(in_other)
    only_here = RecordRow.objects.filter(wanted, is_only_here, run_id=run)
    some = only_here[: MOST_COUNTED + 1]
    count = some.count()
    in_order = only_here.order_by("pk")
    rows = in_order.values(*RECORD_FIELDS)[:FIRST_FILES]
    files = [record_payload(dict(row)) for row in rows]
    return {"objects": count, "files": files}
