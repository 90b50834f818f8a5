"""A run's report: every object acted on, written a page at a time. A new format is a ReportFormat
here; the API, the command line and the console's links follow from it.
"""

from __future__ import annotations

import csv
import io
import json
import unicodedata
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import chain, islice
from typing import Any

from django.core.serializers.json import DjangoJSONEncoder
from django.template.loader import get_template

from pinecart.core.registry import Registry
from pinecart.core.totals import size_text
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.presentation import problem_groups, run_told
from pinecart.service.runs.selectors.records import all_records

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
ROWS_AT_ONCE = 200


@dataclass(frozen=True)
class ReportFormat:
    """title: as a link to it reads.   write: the report as pieces of text.   opens: in the browser
    itself, rather than being saved.
    """

    name: str
    title: str
    media_type: str
    write: Callable[[RunFacts], Iterator[str]]
    opens: bool = False

    def described(self) -> dict[str, str]:
        return {"name": self.name, "title": self.title, "media_type": self.media_type}


def _json_lines(run: RunFacts) -> Iterator[str]:
    """First the run, then a line for each object."""
    head = {"run": run_told(run)}
    for row in chain([head], all_records(run)):
        line = json.dumps(row, cls=DjangoJSONEncoder)
        yield line + "\n"


def _csv(run: RunFacts) -> Iterator[str]:
    yield _line(COLUMNS)
    for row in all_records(run):
        yield _line([_for_people(row.get(column, "")) for column in COLUMNS])


def _line(values: Any) -> str:
    out = io.StringIO()
    csv.writer(out).writerow(values)
    return out.getvalue()


def _for_people(value: Any) -> Any:
    """A cell that a spreadsheet would run is prefixed."""
    if not isinstance(value, str):
        return value
    plain = unicodedata.normalize("NFKC", value)  # full-width signs are signs to some programs
    first = plain.lstrip()[:1]
    would_run = value[:1] in ("\t", "\r") or (first and first in "=+-@")
    return f"'{value}" if would_run else value


def _html(run: RunFacts) -> Iterator[str]:
    told = run_told(run)
    head = {
        "run": told,
        "facts": [
            ("Job", told["job"]),
            ("Run", told["id"]),
            ("Started", f"{told['cause']}, {_time(told['started_at'])}"),
            ("Ended", _time(told["ended_at"])),
        ],
        "totals": [
            {
                "decision": decision,
                "objects": f"{total['objects']:,}",
                "bytes": total["bytes"],
                "size": size_text(total["bytes"]),
            }
            for decision, total in told["totals"].items()
        ],
        "problems": problem_groups(run),
    }
    yield get_template("runs/report_head.html").render(head)
    rows = get_template("runs/report_rows.html")
    records = all_records(run)
    while page := list(islice(records, ROWS_AT_ONCE)):
        yield rows.render({"rows": [row | {"bytes": f"{row['bytes']:,}"} for row in page]})
    yield "</table></div></html>"


def _time(at: Any) -> str:
    return at.strftime("%Y-%m-%d %H:%M:%S UTC") if at else "not yet"


REPORT_FORMATS: Registry[ReportFormat] = Registry("format of a report")
for _format in (
    ReportFormat("html", "Report", "text/html", _html, opens=True),
    ReportFormat("csv", "CSV", "text/csv", _csv),
    ReportFormat("jsonl", "JSON lines", "application/jsonl", _json_lines),
):
    REPORT_FORMATS.add(_format.name, _format)
