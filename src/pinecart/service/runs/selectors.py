from __future__ import annotations

import hashlib
import itertools
import json
from collections import Counter
from collections.abc import Collection, Iterator
from datetime import timedelta
from typing import Any, cast

from django.db import connection
from django.db.models import (
    BinaryField,
    F,
    Func,
    IntegerField,
    Min,
    Q,
    QuerySet,
    Value,
    Window,
)
from django.db.models.functions import Mod, RowNumber
from django.utils import timezone

from pinecart.core.columns import Rows
from pinecart.core.definition import days_kept
from pinecart.core.entries import Aside, Row, Stored
from pinecart.core.lifecycle import ALIVE, RunState
from pinecart.core.places import ASIDE, key_fields, parse_location
from pinecart.core.totals import add_up, after_sentence, sentence
from pinecart.runner.undo import Done
from pinecart.service.config.refusals import UnknownName
from pinecart.service.config.rights import Actor, Right
from pinecart.service.config.settings import STATE
from pinecart.service.runs.models import (
    STORED,
    AsideRow,
    Instance,
    LedgerRow,
    RecordRow,
    Run,
    RunEvent,
    Scope,
    UploadRow,
)
from pinecart.service.stores.selectors import ceiling_of

PAGE = 5000
TOGETHER = 1000
ASIDE_PAGE = 500
CUT_EVERY = 1000
ACTED = ("copy", "replace", "remove", "clear")
ALIVE_STATES = [s.value for s in ALIVE]


def run_numbered(number: int, actor: Actor, kind: str | None = None) -> Run:
    found = Run.objects.filter(pk=number).first()
    if kind == "transfer":
        kind = found.kind if found and found.kind in ("undo", "expiry") else kind
    if found is None or (kind and found.kind != kind) or not actor.may(Right.LOOK, found.labels):
        raise UnknownName(
            (
                f"There is no {(kind or 'run').replace('transfer', 'run')} {number}. See them "
                "with: pinecart run list."
            ),
            code="run.unknown",
        )
    return found


def was_released(job: str, digest: str) -> bool:
    """Whether somebody said yes to this in a run of the job."""
    found = (
        Run.objects.filter(job=job)
        .exclude(released=[])
        .order_by("-id")
        .values_list("released", flat=True)[:200]
    )
    return any(digest in released for released in found)


def held_digest(run: Run) -> str:
    """The digest of all that a held run waits with."""
    return hashlib.sha256("".join(sorted(h["digest"] for h in run.holds)).encode()).hexdigest()[:16]


def runs_seen(
    actor: Actor,
    *,
    kind: str,
    job: str = "",
    state: str = "",
    before: int | None = None,
    limit: int = 50,
) -> list[Run]:
    """Newest first. state: a state or an outcome."""
    kinds = ("transfer", "undo", "expiry") if kind == "transfer" else (kind,)
    found = Run.objects.filter(kind__in=kinds).order_by("-id")
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
        run = (
            Run.objects.filter(job=job, kind=kind)
            .exclude(outcome="skipped")
            .order_by("-id")
            .first()
        )
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
    """A run as every interface tells it.

    totals: sums of its records, and of what was only counted.
    """
    rows = run.summed
    folders = [r for r in rows if r["folder"]]
    rows = [r for r in rows if not r["folder"]]
    done = [r for r in rows if r["done"] or run.kind == "preview"]
    transfers = run.kind != "audit"
    counted = [(d, n, b) for d, _, n, b in run.counted]
    cleared = [("clear", r["n"], r["b"]) for r in rows if r["cleared"]]
    totals = add_up(
        counted + cleared + [(r["decision"], r["n"], r["b"]) for r in done if transfers]
    )
    reasons: dict[str, int] = {}
    for decision, reason, n in [(d, why, n) for d, why, n, _ in run.counted] + [
        (r["decision"], r["reason"], r["n"]) for r in done
    ]:
        reasons[f"{decision} {reason}"] = reasons.get(f"{decision} {reason}", 0) + n
    legs = [_places(leg) for leg in run.definition["legs"]]
    told = {
        "id": run.pk,
        "kind": run.kind,
        "job": run.job,
        "title": run.definition["title"],
        "legs": legs,
        "state": run.state,
        "outcome": run.outcome,
        "cause": run.cause,
        "queued_at": run.queued_at,
        "started_at": run.started_at,
        "ended_at": run.ended_at,
        "totals": totals,
        "reasons": reasons,
        "folders": {
            d: sum(r["n"] for r in folders if r["decision"] == d) for d in ("copy", "remove")
        },
        "problems": sum(r["n"] for r in rows if r["error"]),
        "size_only": sum(r["n"] for r in rows if r["proof"] == "size-only"),
        "findings": 0 if transfers else sum(r["n"] for r in rows),
        "far_side": run.far_side,
        "progress": run.progress,
        "told_at": run.told_at,
        "stop_wanted": run.stop_wanted,
        "pause_wanted": run.pause_wanted,
        "rate": run.rate,
        "of": run.of,
        "intent": run.definition["intent"],
        "set_aside": days_kept(run.definition),
        "held": {"digest": held_digest(run), "lists": run.holds} if run.state == "held" else None,
        "undoable": run.kind == "transfer"
        and run.state == "ended"
        and any(totals[d]["objects"] for d in ACTED),
        "message": run.message,
        "code": run.code,
    }
    return told | {"sentence": _sentence(told, [h["message"] for h in run.holds])}


def _places(leg: dict[str, Any]) -> dict[str, str]:
    """From and to of a leg; of one that carries one file, that file's."""
    names = leg.get("one") or ("", "")
    return {"from": leg["from"] + names[0], "to": leg["to"] + names[1]}


def _sentence(told: dict[str, Any], waits: list[str]) -> str:
    if (
        told["kind"] == "transfer"
        or told["state"] != "ended"
        or told["outcome"] in ("failed", "stopped")
    ):
        return sentence(told)
    if told["kind"] in ("undo", "expiry"):
        return after_sentence(told)
    if told["kind"] == "preview":
        t = told["totals"]
        held = f" It would wait for your yes: {' '.join(waits)}" if waits else ""
        if told["of"] is not None:
            back = t["copy"]["objects"] + t["replace"]["objects"]
            return (
                f"Preview of undoing run {told['of']}: would bring back {back:,}, remove "
                f"{t['remove']['objects'] + t['replace']['objects']:,}; {told['problems']:,} "
                "can't be undone."
            )
        counts = (
            f"would copy {t['copy']['objects']:,}, replace {t['replace']['objects']:,}, remove "
            f"{t['remove']['objects']:,}"
        )
        counts += (
            f", clear {t['clear']['objects']:,} at the source" if t["clear"]["objects"] else ""
        )
        return (
            f"Preview: {counts}; {told['problems']:,} problems; {t['leave']['objects']:,} left "
            f"as they are.{held}"
        )
    if told["findings"]:
        words = ", ".join(
            f"{n:,} {r.removeprefix('finding ')}" for r, n in sorted(told["reasons"].items())
        )
        return f"▲ Both sides are not the same: {words}."
    return "✓ Both sides are the same, by name, size and what is remembered."


def transfer_under_way(job: str) -> Run | None:
    """One that changes things now, or is about to; not one that waits for a person."""
    busy = [RunState.QUEUED.value, RunState.WORKING.value, RunState.INTERRUPTED.value]
    return Run.objects.filter(job=job, kind="transfer", state__in=busy).order_by("id").first()


def run_beside(run: Run) -> Run | None:
    """A transfer of the same job that was under way at any time since this run began."""
    found = Run.objects.filter(job=run.job, kind="transfer", started_at__isnull=False)
    return found.filter(
        Q(ended_at=None, state=RunState.WORKING.value) | Q(ended_at__gte=run.started_at)
    ).first()


def objects_recorded(run: int) -> int:
    """Of how many objects a run has written down what it did."""
    return sum(
        g["n"] for g in Run.objects.values_list("summed", flat=True).get(pk=run) if g["done"]
    )


def problem_groups(run: Run) -> list[dict[str, Any]]:
    """Problems grouped by cause, the most frequent first, each with one example."""
    counts, examples = Counter[str](), dict[str, str]()
    for group in [g for g in run.summed if g["error"]]:
        counts[group["error"]] += group["n"]
        examples[group["error"]] = examples.get(group["error"]) or group.get("example", "")
    for code in [
        c for c, message in examples.items() if not message
    ]:  # of a run that an earlier release recorded
        first = (
            RecordRow.objects.filter(run=run, error=code)
            .values_list("message", flat=True)
            .order_by("id")
            .first()
        )
        examples[code] = first or ""
    return [
        {"code": code, "objects": n, "message": examples[code]} for code, n in counts.most_common()
    ]


def records_after(
    run: Run,
    *,
    after: int = 0,
    limit: int = PAGE,
    decision: str = "",
    problems: bool = False,
    held: bool = False,
) -> list[dict[str, Any]]:
    found = RecordRow.objects.filter(run=run, pk__gt=after).order_by("id")
    if decision:
        found = found.filter(Q(decision=decision) | Q(reason=decision))
    if problems:
        found = found.exclude(error="")
    if held:
        found = found.filter(done=False, error="")
    return [_record_told(dict(r)) for r in found.values()[:limit]]


def _record_told(row: dict[str, Any]) -> dict[str, Any]:
    key = key_fields(bytes(row["key"]))
    return {
        "id": row["id"],
        "leg": row["leg"],
        **key,
        "decision": row["decision"],
        "reason": row["reason"],
        "bytes": row["size"],
        "done": row["done"],
        "seconds": round(row["seconds"], 4),
        "checksum": row["crc"],
        "proof": row["proof"],
        "guarded": row["guarded"],
        "tries": row["tries"],
        "cleared": row["cleared"],
        "error": row["error"],
        "message": row["message"],
    }


def all_records(run: Run) -> Iterator[dict[str, Any]]:
    """Every record in pages by key; no cursor stays open while they are sent."""
    after = 0
    while page := records_after(run, after=after):
        yield from page
        after = page[-1]["id"]


def places_of_name(actor: Actor, name: str, *, limit: int) -> list[dict[str, Any]]:
    """Every place of files with this in their name (`*` stands for anything), each with the runs
    that touched it, newest first.
    """
    words = [w for w in name.encode("utf-8", "surrogateescape").split(b"*") if w]
    found = RecordRow.objects.select_related("run").exclude(run__kind="preview")
    for i, word in enumerate(words):
        at = Func(
            F("key"),
            Value(word, output_field=BinaryField()),
            function="instr",
            output_field=IntegerField(),
        )
        found = found.annotate(**{f"at{i}": at}).filter(**{f"at{i}__gt": 0})
    places: dict[tuple[str, str, bytes], dict[str, Any]] = {}
    if words:
        for row in found.order_by("-id")[:limit].iterator(chunk_size=500):
            if not actor.may(Right.LOOK, row.run.labels) or row.leg >= len(
                row.run.definition["legs"]
            ):
                continue
            leg, key = row.run.definition["legs"][row.leg], bytes(row.key)
            one = places.setdefault(
                (leg["from"], leg["to"], key),
                {
                    **key_fields(key),
                    "from": leg["from"],
                    "to": leg["to"],
                    "bytes": row.size,
                    "runs": [],
                },
            )
            one["runs"].append(
                {
                    "run": row.run_id,
                    "job": row.run.job,
                    "kind": row.run.kind,
                    "decision": row.decision,
                    "reason": row.reason,
                    "done": row.done,
                    "error": row.error,
                    "checksum": row.crc,
                    "at": row.run.ended_at or row.run.started_at,
                }
            )
    return [p for _, p in sorted(places.items())]


def log_after(run: Run, after: int, limit: int) -> tuple[list[dict[str, Any]], int]:
    """Whole lines of the run's log from where `after` stands (0: the first), and where to go on."""
    file = STATE.run_file(run.pk, "log.jsonl")
    if not file.exists() or after > file.stat().st_size:
        return [], after
    lines: list[dict[str, Any]] = []
    with file.open("rb") as log:
        log.seek(max(after - 1, 0))
        if after and log.read(1) != b"\n":  # within a line: nobody was told to go on there
            after += len(log.readline())
        for line in itertools.islice(log, limit):
            if not line.endswith(b"\n"):
                break
            lines.append(json.loads(line))
            after += len(line)
    return lines, after


def ledger_pages(scope: int, after: bytes, limit: int = PAGE) -> list[Rows]:
    """Read as the database gives them: what the ORM does with each row afterwards would cost a
    fifth more. By the thousand, which become columns while the processor still has them at hand.
    """
    found = (
        LedgerRow.objects.filter(scope_id=scope, key__gt=after)
        .order_by("key")
        .values_list(*STORED)[:limit]
    )
    with connection.cursor() as cursor:
        cursor.execute(*found.query.sql_with_params())
        return [Rows.of(rows) for rows in iter(lambda: cursor.fetchmany(TOGETHER), [])]


def ledger_cuts(scope: int) -> list[bytes]:
    """Every thousandth key, in order: where a long listing is read in several ranges at once."""
    numbered = LedgerRow.objects.filter(scope_id=scope).annotate(
        n=Window(RowNumber(), order_by=F("key").asc())
    )
    found = (
        numbered.annotate(rest=Mod(F("n"), Value(CUT_EVERY)))
        .filter(rest=0)
        .values_list("key", flat=True)
    )
    return [bytes(key) for key in found]


def scope_numbered(job: str, identity: str) -> tuple[int, str]:
    """The scope, and the digest of the selection with which it was last carried out to its end."""
    scope = Scope.objects.get_or_create(job=job, identity=identity)[0]
    return scope.pk, scope.settled


def taken_of(scope: int, keys: list[bytes]) -> dict[bytes, str]:
    """Of these keys those that a ledger remembers, and their sources' fingerprints."""
    found = LedgerRow.objects.filter(scope_id=scope, key__in=keys).values_list("key", "source")
    return {bytes(key): source for key, source in found}


def dropped_name(job: str) -> str:
    """What the names of a dropped job's scopes begin with: no job can be called so."""
    return f":{job}:"


def scopes_of_past(job: str, identity: str) -> list[int]:
    """All ledgers that a job of this name ever had between two places, dropped ones too."""
    of_job = Q(job=job) | Q(job__startswith=dropped_name(job))
    return list(Scope.objects.filter(of_job, identity=identity).values_list("pk", flat=True))


def scope_known(job: str, identity: str) -> int:
    """0: this job never ran between these places."""
    return (
        Scope.objects.filter(job=job, identity=identity).values_list("pk", flat=True).first() or 0
    )


def _aside(row: AsideRow) -> Aside:
    return Aside(
        row.leg, row.side, bytes(row.key), bytes(row.at), row.size, row.was, row.kept, row.version
    )


def asides_meant(run: int, leg: int) -> list[Aside]:
    return [
        _aside(a)
        for a in AsideRow.objects.filter(run_id=run, leg=leg, state="meant").order_by("id")
    ]


def asides_kept(run: int, leg: int, after: int) -> tuple[list[Aside], int]:
    """A page of what a run set aside, or meant to, and may still be there; and where to go on."""
    rows = AsideRow.objects.filter(
        run_id=run, leg=leg, version="", state__in=["meant", "kept"], pk__gt=after
    )
    found = list(rows.order_by("id")[:ASIDE_PAGE])
    return [_aside(a) for a in found], found[-1].pk if found else after


def places_aside() -> list[tuple[str, bytes]]:
    """(store, whole prefix) of everything that runs set aside and is still kept."""
    found = (
        AsideRow.objects.filter(version="", state__in=["meant", "kept"])
        .values("run_id", "store")
        .annotate(first=Min("at"))
    )
    return [(a["store"], _aside_folder(bytes(a["first"]), a["run_id"])) for a in found]


def _aside_folder(at: bytes, run: int) -> bytes:
    name = ASIDE + f"{run}/".encode()
    return at[: at.index(name) + len(name)]


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
    records = list(
        RecordRow.objects.filter(
            run_id=run, leg=leg, done=True, decision__in=ACTED, pk__gt=after
        ).order_by("id")[:500]
    )
    keys = [bytes(r.key) for r in records]
    rows = LedgerRow.objects.filter(scope_id__in=scopes, key__in=keys).values_list(*STORED)
    kept = AsideRow.objects.filter(run_id=run, leg=leg, key__in=keys, state="kept")
    asides = {(a.side, bytes(a.key)): _aside(a) for a in kept}
    there = {
        row.key: row.there
        for row in map(Row.read, cast("QuerySet[LedgerRow, Stored]", rows))
        if row.run == run
    }
    found = [
        Done(
            k,
            r.decision,
            r.size,
            there.get(k, ""),
            r.cleared or r.decision == "clear",
            asides.get(("source", k)),
            asides.get(("target", k)),
        )
        for k, r in zip(keys, records, strict=True)
    ]
    return found, records[-1].pk if records else after


def wishes(run: int) -> tuple[bool, bool, int | None]:
    """What people want of a run under way: stop, pause, bytes per second."""
    found = Run.objects.filter(pk=run).values_list("stop_wanted", "pause_wanted", "rate").first()
    return found or (False, False, None)


def shares(stores: Collection[str]) -> dict[str, int]:
    """How many requests at once each store bears from one run: its ceiling, divided among the runs
    that work on it; 0: no ceiling.
    """
    ceilings = {name: most for name in stores if (most := ceiling_of(name))}
    if not ceilings:
        return dict.fromkeys(stores, 0)
    users = Counter[str]()
    for definition in Run.objects.filter(state=RunState.WORKING.value).values_list(
        "definition", flat=True
    ):
        users.update(
            {
                parse_location(leg[side]).store
                for leg in definition["legs"]
                for side in ("from", "to")
            }
        )
    return {
        name: max(1, ceilings[name] // max(1, users[name])) if name in ceilings else 0
        for name in stores
    }


def uploads_left(run: int) -> list[tuple[str, bytes, str]]:
    return [
        (s, bytes(k), at)
        for s, k, at in UploadRow.objects.filter(run_id=run).values_list("store", "key", "at")
    ]


def events_after(number: int) -> list[tuple[int, int, str, Any]]:
    """(id, run, kind, payload) in order."""
    return list(
        RunEvent.objects.filter(pk__gt=number)
        .order_by("id")
        .values_list("id", "run_id", "kind", "payload")[:500]
    )


def last_event() -> int:
    return RunEvent.objects.order_by("-id").values_list("id", flat=True).first() or 0


def database_epoch() -> str:
    return Instance.objects.get().epoch


def runs_working() -> list[Run]:
    return list(Run.objects.filter(state="working"))


def run_of(number: int) -> Run:
    return Run.objects.get(pk=number)
