"""Sums of a run's records, and the one sentence that says whether it worked."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from pinecart.core.decide import Decision
from pinecart.core.lifecycle import Outcome
from pinecart.json_object import JsonObject

Totals = dict[str, dict[str, int]]
CARRIES = ("copy", "replace")  # decisions that carry bytes
MARKS = {
    "clean": "✓ clean",
    "nothing-to-do": "○ nothing to do",
    "problems": "▲ problems",
    "failed": "✗ failed",
    "stopped": "□ stopped",
    "skipped": "◇ skipped",
    "queued": "◌ queued",
    "working": "● working",
    "held": "◆ waiting for your yes",
    "paused": "◐ paused",
    "interrupted": "↻ interrupted",
}


class Group(NamedTuple):
    """Records that count together."""

    decision: str
    reason: str
    done: bool
    error: str
    proof: str
    cleared: bool
    folder: bool


GROUPED_BY = Group._fields


class Sums:
    """The records of a run in groups: objects and bytes of each, and of a problem one example.
    `plain` is JSON, for `read`.
    """

    def __init__(self) -> None:
        self._counts: dict[Group, list[int]] = {}
        self._examples: dict[str, str] = {}

    @classmethod
    def read(cls, plain: Iterable[Mapping[str, Any]]) -> Sums:
        made = cls()
        for told in plain:
            fields = [told[name] for name in GROUPED_BY]
            group = Group(*fields)
            made._counts[group] = [told["n"], told["b"]]
            if told.get("example"):
                made._examples[group.error] = told["example"]
        return made

    def change(
        self,
        gone: Iterable[tuple[Group, int]],
        come: Iterable[tuple[Group, int]],
        examples: Mapping[str, str],
    ) -> bool:
        """Take away and add (group, bytes) of single records.

        examples: error → message. Whether anything changed.
        """
        changed = False
        for sign, records in ((-1, gone), (1, come)):
            for group, size in records:
                count = self._counts.setdefault(group, [0, 0])
                count[0] += sign
                count[1] += sign * size
                changed = True
        self._examples = {**examples, **self._examples}
        return changed

    def plain(self) -> list[JsonObject]:
        """For JSON: a row for each group that has anything, with its number, its bytes, and one key
        as an example where it is a problem.
        """
        found = []
        for group, (objects, size) in self._counts.items():
            told: JsonObject = {**group._asdict(), "n": objects, "b": size}
            if group.error in self._examples:
                told["example"] = self._examples[group.error]
            if objects:
                found.append(told)
        return found


_DECISIONS = tuple(decision.value for decision in Decision)


def no_totals() -> Totals:
    return {name: {"objects": 0, "bytes": 0} for name in _DECISIONS}


def add_up(sums: Iterable[tuple[str, int, int]]) -> Totals:
    """Totals from (decision, objects, bytes) sums; decisions may come more than once."""
    totals = no_totals()
    for decision, objects, size in sums:
        total = totals[decision]
        total["objects"] += objects
        total["bytes"] += size
    return totals


def outcome_of(
    totals: Mapping[str, Mapping[str, int]],
    *,
    problems: int,
    stopped: bool,
    failed: bool,
    folders: int = 0,
    later: int = 0,
) -> Outcome:
    """later: objects that are to be cleared, and aren't yet."""
    if failed:
        return Outcome.FAILED
    if stopped:
        return Outcome.STOPPED
    if problems:
        return Outcome.PROBLEMS
    acted = folders + sum(totals[d]["objects"] for d in ("copy", "replace", "remove", "clear"))
    if acted or later:
        return Outcome.CLEAN
    return Outcome.NOTHING_TO_DO


def size_text(size: int) -> str:
    """Bytes for people, in binary units with one decimal: `3.1 GiB`."""
    value = float(size)
    unit = "B"
    for unit in ("B", "KiB", "MiB", "GiB", "TiB"):
        if value < 1024 or unit == "TiB":
            break
        value /= 1024
    if unit == "B":
        return f"{size:,} B"
    return f"{value:,.1f} {unit}"


def span_text(seconds: float) -> str:
    """`3 min`, `2 h 5 min`, `6 days`."""
    minutes = round(seconds / 60)
    if minutes < 60:
        return f"{minutes} min"
    hours, rest = divmod(minutes, 60)
    if hours < 48:
        return f"{hours} h {rest} min"
    days = hours // 24
    return f"{days} days"


def files_text(n: int) -> str:
    if n == 1:
        return f"{n:,} file"
    return f"{n:,} files"


def sentence(run: Mapping[str, Any]) -> str:
    """One line for an ended or living run, from `state`, `outcome`, `totals`, `reasons`,
    `problems`, `far_side`, `message`.
    """
    word = run["outcome"] or run["state"]
    mark = MARKS[word]
    if word in ("failed", "skipped", "held") or (word == "stopped" and run["message"]):
        return f"{mark}: {run['message']}"
    left = _left(run["reasons"])
    if word == "nothing-to-do":
        parts = ["nothing new or changed; 0 removed", *(left or ["no files there"])]
    else:
        parts = [*_done(run), *left]
    if word == "clean":
        by_size = run.get("size_only")
        parts.append(f"{by_size:,} only compared by size" if by_size else "all proven")
    counts = ", ".join(parts)
    return f"{mark}: {counts}{_far(run.get('far_side'))}"


def _done(run: Mapping[str, Any]) -> list[str]:
    totals = run["totals"]
    n = {decision: total["objects"] for decision, total in totals.items()}
    parts = [
        f"{n['copy']:,} copied",
        f"{n['replace']:,} replaced",
        f"{n['remove']:,} removed",
    ]
    made = run.get("folders", {}).get("copy")
    if made:
        noun = "folder" if made == 1 else "folders"
        parts.append(f"{made:,} {noun} made")
    if n["clear"]:
        parts.append(f"{n['clear']:,} cleared at the source")
    problems = run["problems"]
    if problems:
        noun = "problem" if problems == 1 else "problems"
        parts.append(f"{problems:,} {noun}")
    return parts


LEFT_WORDS = {
    "same": "unchanged",
    "recognised": "unchanged",
    "left-out": "left out by rule",
    "later": "left for a whole run",
    "not-younger": "left out, being no younger than the youngest there",
    "overtaken": "overtaken: no longer as the preview saw them",
    "other-size": "left out by rule",
    "other-time": "left out by rule",
    "too-young": "left for now, since they were touched a moment ago",
    "awaited": "left until another job took them too",
}


def _left(reasons: Mapping[str, int]) -> list[str]:
    """What was left, each kind told where there is any: unchanged, left out by rule, left as the
    job says.
    """
    counts = dict.fromkeys([*LEFT_WORDS.values(), "left as the job says"], 0)
    for kind, n in reasons.items():
        decision, _, reason = kind.partition(" ")
        if decision == "leave":
            counts[LEFT_WORDS.get(reason, "left as the job says")] += n
    return [f"{n:,} {words}" for words, n in counts.items() if n]


def after_sentence(run: Mapping[str, Any]) -> str:
    """The same for a run that undid another (`of`), or cleared away what it had set aside."""
    mark = MARKS[run["outcome"]]
    totals = run["totals"]
    removed = totals["remove"]["objects"]
    if run["kind"] == "expiry":
        said = (
            f"{files_text(removed)} that run {run['of']} had set aside, or left unfinished, "
            "cleared away for good"
        )
    else:
        replaced = totals["replace"]["objects"]
        said = (
            f"run {run['of']} undone: {totals['copy']['objects'] + replaced:,} brought back, "
            f"{removed + replaced:,} removed"
        )
    return f"{mark}: {said}" + (
        f", {run['problems']:,} left as they are" if run["problems"] else ""
    )


def _far(far: Mapping[str, Any] | None) -> str:
    """What a run that was verified found at the far side, to go on a sentence; empty where nobody
    looked there.
    """
    if not far:
        return ""
    files = files_text(far["objects"])
    size = size_text(far["bytes"])
    held = f"; the far side holds {files}, {size}"
    differences = far["differences"]
    if differences == 0:
        return f"{held}, as intended"
    return f"{held}, with {differences:,} not as intended"
