"""A run's report as one page, made to be printed on A4 and read by somebody who has never seen
Pine Cart: what came of it, problems and removals first, then every object.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from html import escape
from itertools import pairwise
from typing import NamedTuple

from django.template.loader import get_template

from pinecart.core.lifecycle import Phase
from pinecart.core.reason_words import DONE_WORDS, PROOF_WORDS, REASON_WORDS
from pinecart.core.totals import CARRIES, size_text, span_text
from pinecart.json_object import JsonObject
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.selectors.records import PROBLEMS, REMOVALS, all_records
from pinecart.service.runs.selectors.whole import run_whole

WIDTH, HEIGHT = 720, 110  # of the picture of its course
MOST_BARS = 90
TABLE = (
    '<table class="files"><thead><tr><th style="width:34%">File<th>Was'
    '<th class="n" style="width:12%">Bytes<th class="n" style="width:8%">Seconds'
    '<th style="width:14%">CRC-64/NVME<th style="width:12%">Proof</thead><tbody>\n'
)


def report_page(run: RunFacts) -> Iterator[str]:
    """In pieces: a million objects pass through without being held."""
    told = run_whole(run)
    is_removing = told["totals"]["remove"]["objects"] > 0
    yield get_template("runs/report_head.html").render(_head(told))
    sections = []
    if told["problems"]:
        sections.append(("Problems", PROBLEMS))
    if is_removing:
        sections.append(("Removed", REMOVALS))
    sections.append(("Every file it acted on", ""))
    for title, and_that in sections:
        yield from _section(run, title, and_that)
    yield "</html>"


def _section(run: RunFacts, title: str, and_that: str) -> Iterator[str]:
    yield f"<h2>{title}</h2>"
    if run.cleared_at is not None:
        yield "<p>What was recorded of each file was cleared away; its sums stay.</p>"
        return
    yield TABLE
    yield from map(_row, all_records(run, and_that))
    yield "</tbody></table>"


def _row(record: JsonObject) -> str:
    """Not by a template: of a million rows it would be nine tenths of the work."""
    decision = record["decision"]
    reason = record["reason"]
    problem = ""
    was_done = ""
    if record["error"]:
        said = escape(f"{record['error']}: {record['message']}")
        problem = f'<tr class="trouble"><td colspan="6">▲ {said}\n'
    elif not record["done"]:
        was_done = "not done: "
    return (
        f'<tr><td class="key"><code>{escape(record["key"])}</code><td>{was_done}'
        f"{DONE_WORDS.get(decision, decision)}, {REASON_WORDS.get(reason, reason)}"
        f'<td class="n">{record["bytes"]:,}<td class="n">{record["seconds"]:.3f}'
        f"<td><code>{escape(record['checksum'])}</code><td>{escape(record['proof'])}\n{problem}"
    )


def _head(told: JsonObject) -> JsonObject:
    return {
        "run": told,
        "facts": _facts(told),
        "totals": _totals(told),
        "reasons": _reasons(told),
        "proofs": [(PROOF_WORDS.get(p, p), f"{n:,}") for p, n in sorted(told["proofs"].items())],
        "phases": [
            (phase.value, _lasted(told["effort"]["phases"][phase.value]))
            for phase in Phase
            if phase.value in told["effort"]["phases"]
        ],
        "requests": [(s, f"{n:,}") for s, n in sorted(told["effort"]["requests"].items())],
        "picture": _picture(told["course"]),
    }


def _facts(told: JsonObject) -> list[tuple[str, str]]:
    """What stands at its head: (name, words)."""
    job = told["job"]
    title = told["title"]
    facts = [("Job", f"{job}, {title}" if title else job)]
    if told["version"]:
        facts.append(("By", f"version {told['version']} of its definition"))
    started = told["started_at"]
    ended = told["ended_at"]
    facts.append(("Started", f"{told['cause']}, {_time(started)}"))
    facts.append(("Ended", _time(ended)))
    if started and ended:
        facts += _pace(told)
    for words in told["unusual"]:
        facts.append(("Unusual", words))
    held = told["far_side"]
    if held is not None:
        facts.append(("The far side held in the end", _far_side(held)))
    return facts


def _pace(told: JsonObject) -> list[tuple[str, str]]:
    lasted = told["ended_at"] - told["started_at"]
    seconds = lasted.total_seconds()
    facts = [("Lasted", _lasted(seconds))]
    totals = told["totals"]
    carried = sum(totals[decision]["bytes"] for decision in CARRIES)
    if carried and seconds:
        length = size_text(carried)
        rate = size_text(int(carried / seconds))
        facts.append(("Carried", f"{length}, {rate} a second"))
    return facts


def _far_side(far: JsonObject) -> str:
    held = f"{far['objects']:,} files, {size_text(far['bytes'])}"
    if far["differences"]:
        return f"{held}, with {far['differences']:,} not as intended"
    return f"{held}, as intended"


def _totals(told: JsonObject) -> list[JsonObject]:
    """What isn't zero; removals always."""
    return [
        {
            "words": DONE_WORDS[decision],
            "objects": f"{total['objects']:,}",
            "bytes": total["bytes"],
            "size": size_text(total["bytes"]),
        }
        for decision, total in told["totals"].items()
        if total["objects"] or decision == "remove"
    ]


def _reasons(told: JsonObject) -> list[tuple[str, str, str]]:
    """(decision, why, objects), the most first."""
    found = []
    for kind, n in sorted(told["reasons"].items(), key=lambda pair: -pair[1]):
        decision, _, reason = kind.partition(" ")
        words = DONE_WORDS.get(decision, decision)
        found.append((words, REASON_WORDS.get(reason, reason), f"{n:,}"))
    return found


class Bar(NamedTuple):
    """Of the picture, in its own units."""

    x: float
    width: float
    y: float
    height: float


def _picture(course: Sequence[Sequence[float]]) -> JsonObject | None:
    """How fast it went over time; None where there is too little to draw."""
    step = -(-len(course) // MOST_BARS) or 1
    points = [*course[:-1:step], *course[-1:]]
    spans = [
        (then[0], now[0], max(now[1] - then[1], 0.0) / (now[0] - then[0]))
        for then, now in pairwise(points)
        if now[0] > then[0]
    ]
    most = max((rate for *_, rate in spans), default=0.0)
    if len(spans) < 3 or not most:
        return None
    begun = spans[0][0]
    ended = spans[-1][1]
    across = WIDTH / (ended - begun)
    bars = []
    for since, until, rate in spans:
        height = rate / most * HEIGHT
        width = max((until - since) * across - 0.5, 0.5)
        bars.append(Bar((since - begun) * across, width, HEIGHT - height, height))
    return {
        "width": WIDTH,
        "height": HEIGHT,
        "bars": bars,
        "most": f"{size_text(int(most))}/s",
        "lasted": _lasted(ended - begun),
    }


def _time(at: datetime | None) -> str:
    if at:
        return at.strftime("%Y-%m-%d %H:%M:%S UTC")
    return "not yet"


def _lasted(seconds: float) -> str:
    """In the unit that people would say it in."""
    if seconds < 1:
        return f"{seconds * 1000:,.0f} ms"
    if seconds < 120:
        return f"{seconds:,.1f} s"
    return span_text(seconds)
