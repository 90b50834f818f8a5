"""A run's report: every object acted on, as self-contained HTML, CSV, or JSON lines. Written a page
at a time.
"""

from __future__ import annotations

import csv
import io
import json
import unicodedata
from collections.abc import Iterator
from html import escape
from typing import Any

from django.core.serializers.json import DjangoJSONEncoder

from pinecart.core.totals import size_text
from pinecart.service.runs.selectors import Run, all_records, problem_groups, run_told

COLUMNS = (
    "leg",
    "key",
    "decision",
    "reason",
    "bytes",
    "done",
    "seconds",
    "checksum",
    "proof",
    "guarded",
    "cleared",
    "tries",
    "error",
    "message",
    "key_id",
)
TYPES = {"html": "text/html", "csv": "text/csv", "jsonl": "application/jsonl"}
STYLE = """
:root{color-scheme:light dark;--paper:#faf9f6;--ink:#23271f;--line:#d9d6cc;
--soft:#6b6a62;--pine:#2f6b4f}
@media(prefers-color-scheme:dark){:root{--paper:#171a18;--ink:#e6e4dc;--line:#3a3e3a;--soft:#a5a69d;--pine:#7fbf9c}}
body{background:var(--paper);color:var(--ink);font:15px/1.5 system-ui,sans-serif;
margin:2rem auto;max-width:76rem;padding:0 1rem}
h1{font-size:1.3rem;margin:0;color:var(--pine)}.said{font-size:1.15rem;margin:.6rem 0}
dl{display:grid;grid-template-columns:max-content 1fr;gap:.2rem 1rem}
dt{color:var(--soft)}dd{margin:0;overflow-wrap:anywhere}
.wide{overflow-x:auto}table{border-collapse:collapse;width:100%;font-variant-numeric:tabular-nums}
th,td{text-align:left;padding:.25rem .6rem;border-bottom:1px solid var(--line);vertical-align:top}
th{position:sticky;top:0;background:var(--paper)}td.n{text-align:right;white-space:nowrap}
code{font:13px ui-monospace,monospace;overflow-wrap:anywhere}
"""


def report(run: Run, kind: str) -> Iterator[str]:
    """The report as pieces of text. kind: "html", "csv" or "jsonl"."""
    return {"html": _html, "csv": _csv, "jsonl": _jsonl}[kind](run)


def _jsonl(run: Run) -> Iterator[str]:
    """First the run, then a line for each object."""
    yield json.dumps({"run": run_told(run)}, cls=DjangoJSONEncoder) + "\n"
    for row in all_records(run):
        yield json.dumps(row, cls=DjangoJSONEncoder) + "\n"


def _csv(run: Run) -> Iterator[str]:
    yield _line(COLUMNS)
    for row in all_records(run):
        yield _line([_for_people(row.get(c, "")) for c in COLUMNS])


def _line(values: Any) -> str:
    out = io.StringIO()
    csv.writer(out).writerow(values)
    return out.getvalue()


def _for_people(value: Any) -> Any:
    """A cell that a spreadsheet would run is prefixed."""
    if not isinstance(value, str):
        return value
    first = unicodedata.normalize("NFKC", value).lstrip()[
        :1
    ]  # full-width signs are signs to some programs
    return f"'{value}" if value[:1] in ("\t", "\r") or (first and first in "=+-@") else value


def _html(run: Run) -> Iterator[str]:
    told = run_told(run)
    legs = "".join(
        (
            f"<dt>From → to</dt><dd><code>{escape(leg['from'])}</code> → "
            f"<code>{escape(leg['to'])}</code></dd>"
        )
        for leg in told["legs"]
    )
    facts = {
        "Job": told["job"],
        "Run": told["id"],
        "Started": f"{told['cause']}, {_time(told['started_at'])}",
        "Ended": _time(told["ended_at"]),
    }
    yield (
        '<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" '
        f'content="width=device-width"><title>Run {told["id"]} of '
        f"{escape(told['job'])}</title><style>{STYLE}</style>"
    )
    yield (
        f"<h1>Report of run {told['id']}: {escape(told['title'])}</h1><p "
        f'class="said">{escape(told["sentence"])}</p><dl>'
    )
    yield (
        "".join(f"<dt>{k}</dt><dd>{escape(str(v))}</dd>" for k, v in facts.items()) + legs + "</dl>"
    )
    yield "<h2>Totals</h2><table><tr><th>Decision<th>Files<th>Bytes</tr>"
    for decision, total in told["totals"].items():
        yield (
            f'<tr><td>{decision}<td class="n">{total["objects"]:,}<td class="n" '
            f'title="{total["bytes"]}">{size_text(total["bytes"])}</tr>'
        )
    yield "</table>"
    groups = problem_groups(run)
    if groups:
        yield "<h2>Problems</h2><table><tr><th>Files<th>Code<th>For example</tr>"
        yield (
            "".join(
                (
                    "<tr><td "
                    f'class="n">{g["objects"]:,}<td>{escape(g["code"])}<td>{escape(g["message"])}</tr>'
                )
                for g in groups
            )
            + "</table>"
        )
    yield (
        "<h2>Files</h2><div "
        'class="wide"><table><tr><th>File<th>Decision<th>Reason<th>Bytes<th>Seconds<th>CRC-64/NVME<th>Proof<th>Error</tr>'
    )
    for row in all_records(run):
        error = escape(f"{row['error']}: {row['message']}") if row["error"] else ""
        yield (
            f"<tr><td><code>{escape(row['key'])}</code><td>{row['decision']}<td>{row['reason']}<td "
            f'class="n">{row["bytes"]:,}'
            "<td "
            f'class="n">{row["seconds"]:.3f}<td><code>{row["checksum"]}</code><td>{row["proof"]}<td>{error}</tr>'
        )
    yield "</table></div></html>"


def _time(at: Any) -> str:
    return at.strftime("%Y-%m-%d %H:%M:%S UTC") if at else "not yet"
