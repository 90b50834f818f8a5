"""How a run is told, by every interface alike."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Mapping
from typing import Any

from pinecart.core.audit import DEPTH_WORDS, could_differ, read_rules
from pinecart.core.definition import days_kept
from pinecart.core.lifecycle import RunState
from pinecart.core.places import key_fields, parse_location
from pinecart.core.totals import CARRIES, add_up, after_sentence, files_text, sentence, size_text
from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import UnknownName
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.models import RecordRow
from pinecart.service.stores.selectors import cautions_between

ACTED = ("copy", "replace", "remove", "clear")


def held_digest(run: RunFacts) -> str:
    """The digest of all that a held run waits with."""
    return hashlib.sha256("".join(sorted(h["digest"] for h in run.holds)).encode()).hexdigest()[:16]


class RunSums:
    """What a run's records, and what was only counted, come to."""

    def __init__(self, run: RunFacts) -> None:
        self._run = run
        self._groups: list[Mapping[str, Any]] = []
        self._folders: list[Mapping[str, Any]] = []
        for group in run.summed:
            of_kind = self._folders if group["folder"] else self._groups
            of_kind.append(group)
        is_preview = run.kind == "preview"
        self._done = [group for group in self._groups if group["done"] or is_preview]

    def by_decision(self) -> JsonObject:
        """Decision → objects and bytes. Of an audit, which decides nothing, what was counted."""
        sums = [(decision, n, size) for decision, _, n, size in self._run.counted]
        for group in self._groups:
            if group["cleared"]:
                sums.append(("clear", group["n"], group["b"]))
        if self._run.kind != "audit":
            for group in self._done:
                sums.append((group["decision"], group["n"], group["b"]))
        return add_up(sums)

    def by_reason(self) -> dict[str, int]:
        """`decision reason` → objects."""
        reasons = Counter[str]()
        for decision, reason, n, _ in self._run.counted:
            reasons[f"{decision} {reason}"] += n
        for group in self._done:
            decision = group["decision"]
            reason = group["reason"]
            reasons[f"{decision} {reason}"] += group["n"]
        return dict(reasons)

    def folders(self) -> dict[str, int]:
        """Folders that were made and removed."""
        counts = {"copy": 0, "remove": 0}
        for group in self._folders:
            decision = group["decision"]
            if decision in counts:
                counts[decision] += group["n"]
        return counts

    def problems(self) -> int:
        return sum(g["n"] for g in self._groups if g["error"])

    def proven_by_size(self) -> int:
        return sum(g["n"] for g in self._groups if g["proof"] == "size-only")

    def by_proof(self) -> dict[str, int]:
        """How what was placed was proven → objects."""
        proofs = Counter[str]()
        for group in self._done:
            if group["proof"] and group["decision"] in CARRIES:
                proofs[group["proof"]] += group["n"]
        return dict(proofs)

    def findings(self) -> int:
        if self._run.kind == "audit":
            return sum(g["n"] for g in self._groups)
        return 0


def run_told(run: RunFacts) -> JsonObject:
    """A run as every interface tells it."""
    sums = RunSums(run)
    totals = sums.by_decision()
    told = {
        "id": run.pk,
        "kind": run.kind,
        "job": run.job,
        "title": run.definition["title"],
        "legs": [_places(leg) for leg in run.definition["legs"]],
        "state": run.state,
        "outcome": run.outcome,
        "cause": run.cause,
        "queued_at": run.queued_at,
        "started_at": run.started_at,
        "ended_at": run.ended_at,
        "totals": totals,
        "reasons": sums.by_reason(),
        "folders": sums.folders(),
        "problems": sums.problems(),
        "size_only": sums.proven_by_size(),
        "findings": sums.findings(),
        "far_side": run.far_side,
        "progress": run.progress,
        "told_at": run.told_at,
        "stop_wanted": run.stop_wanted,
        "pause_wanted": run.pause_wanted,
        "rate": run.rate,
        "of": run.of,
        "version": run.version,
        "intent": run.definition["intent"],
        "set_aside": days_kept(run.definition),
        "held": _held(run),
        "undoable": _is_undoable(run, totals),
        "message": run.message,
        "code": run.code,
        "cleared_at": run.cleared_at,
        "audit": run.audit,
    }
    return told | {"sentence": _sentence(told, run)}


def _held(run: RunFacts) -> JsonObject | None:
    """What waits for a person, and what a yes has to name."""
    if run.state != RunState.HELD.value:
        return None
    return {"digest": held_digest(run), "lists": run.holds}


def _is_undoable(run: RunFacts, totals: JsonObject) -> bool:
    is_over = run.kind == "transfer" and run.state == RunState.ENDED.value
    return is_over and any(totals[decision]["objects"] for decision in ACTED)


def _places(leg: JsonObject) -> dict[str, str]:
    """From and to of a leg; of one that carries one file, that file's."""
    here, there = leg.get("one") or ("", "")
    return {"from": leg["from"] + here, "to": leg["to"] + there}


def _sentence(told: JsonObject, run: RunFacts) -> str:
    """The one that says how it went."""
    is_cut_short = told["state"] != "ended" or told["outcome"] in ("failed", "stopped")
    if told["kind"] == "transfer" or is_cut_short:
        return sentence(told)
    if told["kind"] in ("undo", "expiry"):
        return after_sentence(told)
    if told["kind"] == "audit":
        return _audit_sentence(told)
    if told["kind"] == "inventory":
        return _inventory_sentence(told)
    if told["of"] is not None:
        return _undo_preview_sentence(told)
    return _preview_sentence(told, [hold["message"] for hold in run.holds])


def _preview_sentence(told: JsonObject, waits: list[str]) -> str:
    objects = _objects(told)
    parts = []
    for decision in ("copy", "replace", "remove"):
        parts.append(f"{decision} {objects[decision]:,}")
    cleared = objects["clear"]
    left = objects["leave"]
    if cleared:
        parts.append(f"clear {cleared:,} at the source")
    would = ", ".join(parts)
    sentence = f"Preview: would {would}; "
    sentence += f"{told['problems']:,} problems; {left:,} left as they are."
    if waits:
        sentence += " It would wait for your yes: " + " ".join(waits)
    return sentence


def _undo_preview_sentence(told: JsonObject) -> str:
    run = told["of"]
    problems = told["problems"]
    objects = _objects(told)
    replaced = objects["replace"]
    back = objects["copy"] + replaced
    gone = objects["remove"] + replaced
    would = f"would bring back {back:,}, remove {gone:,}"
    return f"Preview of undoing run {run}: {would}; {problems:,} can't be undone."


def _objects(told: JsonObject) -> dict[str, int]:
    return {decision: total["objects"] for decision, total in told["totals"].items()}


def _inventory_sentence(told: JsonObject) -> str:
    """By what was counted: the inventory itself is read for its own page alone."""
    whole = told["totals"]["leave"]
    place = told["legs"][0]["from"]
    return f"{files_text(whole['objects'])}, {size_text(whole['bytes'])} in {place}."


def _audit_sentence(told: JsonObject) -> str:
    rules = read_rules(told["audit"])
    found = []
    alike = 0
    for reason, n in sorted(told["reasons"].items()):
        decision, _, why = reason.partition(" ")
        if decision == "finding":
            found.append(f"{n:,} {why}")
        alike += n if decision == "leave" else 0
    by = f"by {DEPTH_WORDS[rules.depth]}"
    if found:
        return f"▲ Both sides are not the same: {', '.join(found)}; {alike:,} are alike, {by}."
    if rules.sample >= 100:
        return f"✓ Both sides are the same, {by}: {alike:,} files."
    looked = told["reasons"].get("leave recognised", 0)
    most = could_differ(looked)
    return (
        f"✓ Both sides are the same, {by}: of {alike:,} files a random {looked:,} were looked at "
        f"closely. Had more than {most:.2%} of them differed, one would have shown (95 % sure)."
    )


def problem_groups(run: RunFacts) -> list[JsonObject]:
    """Problems grouped by cause, the most frequent first, each with one example."""
    counts = Counter[str]()
    examples = dict[str, str]()
    for group in run.summed:
        code = group["error"]
        if code:
            counts[code] += group["n"]
            examples[code] = examples.get(code) or group.get("example", "")
    return [
        {"code": code, "objects": n, "message": examples[code] or _first_message(run, code)}
        for code, n in counts.most_common()
    ]


def _first_message(run: RunFacts, code: str) -> str:
    """Of a run that an earlier release recorded, whose sums keep no example."""
    found = RecordRow.objects.filter(run_id=run.pk, error=code).order_by("id")
    return found.values_list("message", flat=True).first() or ""


def whole_told(run: RunFacts) -> JsonObject:
    """What is told of one run beside what every list tells."""
    return {
        "problem_groups": problem_groups(run),
        "proofs": RunSums(run).by_proof(),
        "course": run.course,
        "effort": effort_told(run),
        "cautions": cautions_of(run),
    }


def cautions_of(run: RunFacts) -> list[str]:
    """What can't be kept where it writes to, and what else is to be known of that."""
    pairs = set()
    for leg in run.definition["legs"]:
        source = parse_location(leg["from"])
        target = parse_location(leg["to"])
        pairs.add((source.store, target.store))
    found: list[str] = []
    for source_store, target_store in sorted(pairs):
        found += cautions_between(source_store, target_store)
    return list(dict.fromkeys(found))


def inventory_level(run: RunFacts, folder: str) -> JsonObject:
    """One folder (its key_id; empty: the place itself) of an inventory, and what lies directly in
    it. Raises NotFound.
    """
    found = run.inventory or {"folders": [], "ages": [], "kinds": [], "largest": []}
    told: JsonObject = {name: found[name] for name in ("ages", "kinds", "largest")}
    by_id = {one["key_id"]: one for one in found["folders"]}
    if folder and folder not in by_id:
        message = f"Inventory {run.pk} tells no folder {folder!r} apart. Take one of that folder."
        raise UnknownName(message, code="inventory.no-folder")
    depth = folder.count("/")
    inner = [
        one for key, one in by_id.items() if key.startswith(folder) and key.count("/") == depth + 1
    ]
    return told | {"folder": by_id.get(folder), "inside": inner}


def effort_told(run: RunFacts) -> JsonObject:
    """What it took. Of a run that an earlier release recorded nothing is known."""
    return {"phases": run.effort.get("phases", {}), "requests": run.effort.get("requests", {})}


def record_payload(row: JsonObject) -> JsonObject:
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
