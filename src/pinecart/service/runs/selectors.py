from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import timedelta
from typing import Any

from django.db.models import Count, Q, Sum
from django.utils import timezone

from pinecart.core.entries import Row
from pinecart.core.lifecycle import ALIVE
from pinecart.core.places import key_fields
from pinecart.core.totals import add_up, sentence
from pinecart.service.config.refusals import NotFound
from pinecart.service.config.rights import Actor, Right
from pinecart.service.config.settings import STATE
from pinecart.service.runs.models import Instance, LedgerRow, RecordRow, Run, RunEvent, Scope

PAGE = 5000
ALIVE_STATES = [s.value for s in ALIVE]


def run_numbered(number: int, actor: Actor, kind: str | None = None) -> Run:
    found = Run.objects.filter(pk=number).first()
    if found is None or (kind and found.kind != kind) or not actor.may(Right.LOOK, found.labels):
        raise NotFound(
            f"There is no {(kind or 'run').replace('transfer', 'run')} {number}. See them with: pinecart run list.",
            code="run.unknown",
        )
    return found


def runs_seen(
    actor: Actor, *, kind: str, job: str = "", state: str = "", before: int | None = None, limit: int = 50
) -> list[Run]:
    """Newest first. state: a state or an outcome."""
    found = Run.objects.filter(kind=kind).order_by("-id")
    if job:
        found = found.filter(job=job)
    if state:
        found = found.filter(Q(state=state) | Q(outcome=state))
    if before is not None:
        found = found.filter(pk__lt=before)
    return [r for r in found[:limit] if actor.may(Right.LOOK, r.labels)]


def latest_runs(job: str) -> dict[str, Run]:
    """kind → the latest run of a job that wasn't skipped."""
    found = {}
    for kind in ("transfer", "audit"):
        run = Run.objects.filter(job=job, kind=kind).exclude(outcome="skipped").order_by("-id").first()
        if run:
            found[kind] = run
    return found


def recent_marks(job: str) -> list[dict[str, Any]]:
    since = timezone.now() - timedelta(days=14)
    found = Run.objects.filter(job=job, kind="transfer", ended_at__gte=since).order_by("-id")[:200]
    return [{"id": r.pk, "outcome": r.outcome, "at": r.ended_at} for r in reversed(found)]


def alive_of(job: str, kind: str) -> Run | None:
    return Run.objects.filter(job=job, kind=kind, state__in=ALIVE_STATES).order_by("id").first()


def run_told(run: Run) -> dict[str, Any]:
    """A run as every interface tells it. totals: sums of its records, and of what was only counted."""
    rows = list(
        RecordRow.objects.filter(run=run)
        .values("decision", "reason", "done", "error", "proof")
        .annotate(n=Count("id"), b=Sum("size"))
    )
    done = [r for r in rows if r["done"] or run.kind == "preview"]
    transfers = run.kind != "audit"
    counted = [(d, n, b) for d, _, n, b in run.counted]
    totals = add_up(counted + [(r["decision"], r["n"], r["b"]) for r in done if transfers])
    reasons: dict[str, int] = {}
    for decision, reason, n in [(d, why, n) for d, why, n, _ in run.counted] + [
        (r["decision"], r["reason"], r["n"]) for r in done
    ]:
        reasons[f"{decision} {reason}"] = reasons.get(f"{decision} {reason}", 0) + n
    legs = [_places(leg) for leg in run.definition["legs"]]
    told = {
        "id": run.pk, "kind": run.kind, "job": run.job, "title": run.definition["title"], "legs": legs, "state": run.state,
        "outcome": run.outcome, "cause": run.cause, "queued_at": run.queued_at, "started_at": run.started_at,
        "ended_at": run.ended_at, "totals": totals, "reasons": reasons,
        "problems": sum(r["n"] for r in rows if r["error"]), "size_only": sum(r["n"] for r in rows if r["proof"] == "size-only"),
        "findings": 0 if transfers else sum(r["n"] for r in rows), "far_side": run.far_side, "progress": run.progress,
        "told_at": run.told_at, "stop_wanted": run.stop_wanted, "message": run.message, "code": run.code,
    }  # fmt: skip
    return told | {"sentence": _sentence(told)}


def _places(leg: dict[str, Any]) -> dict[str, str]:
    """From and to of a leg; of one that carries one file, that file's."""
    names = leg.get("one") or ("", "")
    return {"from": leg["from"] + names[0], "to": leg["to"] + names[1]}


def _sentence(told: dict[str, Any]) -> str:
    if told["kind"] == "transfer" or told["state"] != "ended" or told["outcome"] in ("failed", "stopped"):
        return sentence(told)
    if told["kind"] == "preview":
        t = told["totals"]
        counts = f"would copy {t['copy']['objects']:,}, replace {t['replace']['objects']:,}, remove {t['remove']['objects']:,}"
        return f"Preview: {counts}; {told['problems']:,} problems; {t['leave']['objects']:,} left as they are."
    if told["findings"]:
        words = ", ".join(f"{n:,} {r.removeprefix('finding ')}" for r, n in sorted(told["reasons"].items()))
        return f"▲ Both sides are not the same: {words}."
    return "✓ Both sides are the same, by name, size and what is remembered."


def problem_groups(run: Run) -> list[dict[str, Any]]:
    """Problems grouped by cause, the most frequent first, each with one example."""
    found = RecordRow.objects.filter(run=run).exclude(error="").values("error").annotate(n=Count("id")).order_by("-n")
    groups = []
    for group in found:
        first = RecordRow.objects.filter(run=run, error=group["error"]).order_by("id").first()
        groups.append({"code": group["error"], "objects": group["n"], "message": first.message if first else ""})
    return groups


def records_after(
    run: Run, *, after: int = 0, limit: int = PAGE, decision: str = "", problems: bool = False
) -> list[dict[str, Any]]:
    found = RecordRow.objects.filter(run=run, pk__gt=after).order_by("id")
    if decision:
        found = found.filter(Q(decision=decision) | Q(reason=decision))
    if problems:
        found = found.exclude(error="")
    return [_record_told(dict(r)) for r in found.values()[:limit]]


def _record_told(row: dict[str, Any]) -> dict[str, Any]:
    key = key_fields(bytes(row["key"]))
    return {
        "id": row["id"], "leg": row["leg"], **key, "decision": row["decision"], "reason": row["reason"], "bytes": row["size"],
        "done": row["done"], "seconds": round(row["seconds"], 4), "checksum": row["crc"], "proof": row["proof"],
        "guarded": row["guarded"], "tries": row["tries"], "error": row["error"], "message": row["message"],
    }  # fmt: skip


def all_records(run: Run) -> Iterator[dict[str, Any]]:
    """Every record in pages by key; no cursor stays open while they are sent."""
    after = 0
    while page := records_after(run, after=after):
        yield from page
        after = page[-1]["id"]


def log_after(run: Run, after: int, limit: int) -> tuple[list[dict[str, Any]], int]:
    """Lines of the run's log from line number `after` on, and the number to go on with."""
    file = STATE.run_file(run.pk, "log.jsonl")
    if not file.exists():
        return [], after
    lines = []
    with file.open() as log:
        for number, line in enumerate(log):
            if number >= after and line.endswith("\n"):
                lines.append(json.loads(line))
            if len(lines) == limit:
                break
    return lines, after + len(lines)


def ledger_page(scope: int, after: bytes, limit: int = PAGE) -> list[Row]:
    found = LedgerRow.objects.filter(scope_id=scope, key__gt=after).order_by("key")
    rows = found.values_list("key", "source", "there", "crc", "racy", "cleared", "run")[:limit]
    return [Row(bytes(row[0]), *row[1:]) for row in rows]


def scope_numbered(job: str, identity: str) -> int:
    return Scope.objects.get_or_create(job=job, identity=identity)[0].pk


def stop_wanted(run: int) -> bool:
    return Run.objects.filter(pk=run, stop_wanted=True).exists()


def events_after(number: int) -> list[tuple[int, int, str, Any]]:
    """(id, run, kind, payload) in order."""
    return list(
        RunEvent.objects.filter(pk__gt=number).order_by("id").values_list("id", "run_id", "kind", "payload")[:500]
    )


def last_event() -> int:
    return RunEvent.objects.order_by("-id").values_list("id", flat=True).first() or 0


def database_epoch() -> str:
    return Instance.objects.get().epoch


def runs_working() -> list[Run]:
    return list(Run.objects.filter(state="working"))


def run_of(number: int) -> Run:
    return Run.objects.get(pk=number)
