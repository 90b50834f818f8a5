"""A run's report: every object acted on, written a page at a time. A new format is a ReportFormat
here; the API, the command line and the console's links follow from it.
"""

from __future__ import annotations

import csv
import io
import json
import re
import unicodedata
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from itertools import islice
from typing import Any

import orjson
from django.core.serializers.json import DjangoJSONEncoder

from pinecart.core.registry import Registry
from pinecart.json_object import JsonObject
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.report_page import report_page
from pinecart.service.runs.selectors.records import all_records
from pinecart.service.runs.selectors.whole import run_whole

ROWS_AT_ONCE = 500
REPORT_SCHEMA = 1  # grows when a column is taken away or means something else
# column → its type in JSON, and what it is
COLUMNS = {
    "leg": ("integer", "Of the job, from 0."),
    "key": ("string", "Below the leg's places, to read; what is no UTF-8 is written as %XX."),
    "decision": ("string", "copy, replace, remove, clear, leave, refuse or finding."),
    "reason": ("string", "Why."),
    "bytes": ("integer", "Its size."),
    "done": ("boolean", "Whether it was carried out."),
    "seconds": ("number", "How long it took."),
    "checksum": ("string", "CRC-64/NVME in base64; empty: none is known."),
    "proof": ("string", "server-verified, read-back, server-copy or size-only."),
    "guarded": ("boolean", "Whether a condition kept others' changes from being overwritten."),
    "cleared": ("boolean", "Whether it was then cleared at the source."),
    "tries": ("integer", "How often it was begun."),
    "error": ("string", "The problem's code; empty: none."),
    "message": ("string", "The problem in words, and what to do."),
    "key_id": ("string", "Stands for exactly this key wherever one is asked for."),
}


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
    told = run_whole(run)
    yield json.dumps({"schema": REPORT_SCHEMA, "run": told}, cls=DjangoJSONEncoder) + "\n"
    for row in all_records(run):
        yield orjson.dumps(row).decode() + "\n"


def report_schema() -> JsonObject:
    """JSON Schema (draft 2020-12) of one line of a report as JSON lines: the first tells the run,
    each other one an object.
    """
    columns = {name: {"type": kind, "description": is_} for name, (kind, is_) in COLUMNS.items()}
    run = {"schema": {"const": REPORT_SCHEMA}, "run": {"type": "object"}}
    head = {"type": "object", "properties": run, "required": [*run]}
    row = {"type": "object", "properties": columns, "required": [*columns]}
    draft = "https://json-schema.org/draft/2020-12/schema"
    return {"$schema": draft, "title": "A line of a run's report", "anyOf": [head, row]}


def _csv(run: RunFacts) -> Iterator[str]:
    heads = tuple(COLUMNS)
    yield _csv_lines([heads])
    records = all_records(run)
    while rows := list(islice(records, ROWS_AT_ONCE)):
        for row in rows:
            by_others = row["key"], row["message"], row["key_id"], row["checksum"]
            if not _ALL_HARMLESS("\n".join(by_others)):
                for name in _BY_OTHERS:
                    row[name] = _for_people(row[name])
        lines = [tuple(row.values()) for row in rows]
        yield _csv_lines(lines)


_BY_OTHERS = ("key", "message", "key_id", "checksum")  # what may begin with any sign


_LINE = ",".join(["%s"] * len(COLUMNS)) + "\r\n"


def _csv_lines(rows: Sequence[tuple[Any, ...]]) -> str:
    """RFC 4180. Most need no quotes: for those the library takes twice as long."""
    lines = "".join([_LINE % row for row in rows])
    signs = [lines.count(sign) for sign in ",\r\n"]
    own = [_LINE.count(sign) * len(rows) for sign in ",\r\n"]
    if signs == own and '"' not in lines:
        return lines
    page = io.StringIO()
    writer = csv.writer(page)
    writer.writerows(rows)
    return page.getvalue()


_HARMLESS = r"(?:[A-Za-z0-9][ -~]*)?"
# All cells in one look, which takes half as long as one at each.
_ALL_HARMLESS = re.compile("\n".join([_HARMLESS] * len(_BY_OTHERS))).fullmatch


def _for_people(value: str) -> str:
    """A cell that a spreadsheet would run is prefixed."""
    plain = unicodedata.normalize("NFKC", value)  # full-width signs are signs to some programs
    first = plain.lstrip()[:1]
    would_run = value[:1] in ("\t", "\r") or (first and first in "=+-@")
    if would_run:
        return f"'{value}"
    return value


REPORT_FORMATS: Registry[ReportFormat] = Registry("format of a report")
for _format in (
    ReportFormat("html", "Report", "text/html", report_page, opens=True),
    ReportFormat("csv", "CSV", "text/csv", _csv),
    ReportFormat("jsonl", "JSON lines", "application/jsonl", _json_lines),
):
    REPORT_FORMATS.add(_format.name, _format)
