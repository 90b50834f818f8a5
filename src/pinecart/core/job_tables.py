"""Many legs or many jobs out of a table (RFC 4180 CSV) with a head line."""

from __future__ import annotations

import csv
from collections.abc import Sequence
from typing import NamedTuple

from pinecart.core.errors import Invalid
from pinecart.core.job_files import GivenJob
from pinecart.core.option_spec import Problems
from pinecart.json_object import JsonObject

NEEDED = ("from", "to")
OF_JOB = ("name", "title", "why", "labels", "intent")


class _Row(NamedTuple):
    line: int
    cells: dict[str, str]


def read_table(text: str, job: str = "") -> list[GivenJob]:
    """from, to and whatever else a row gives: name (rows of one name are legs of one job; without
    that column, all are legs of `job`), title, why, labels (parted by blanks), intent. Any other
    column is a value, which `{column}` in from and to stands for.

    Raises Invalid with every problem at once, each with its line and column.
    """
    reading = Problems()
    heads, rows = _rows(text, reading)
    missing = [name for name in NEEDED if name not in heads]
    if missing:
        told = ", ".join(missing)
        reading.wrong("line 1", "table.head", f"Line 1: the head has no column {told}.")
    if not missing and not job and "name" not in heads:
        message = "Line 1: there is no column name, and no name was given for one job."
        reading.wrong("line 1", "table.head", message)
    if reading.problems:
        raise Invalid(reading.problems)
    jobs = _jobs(rows, job, reading)
    if reading.problems:
        raise Invalid(reading.problems)
    return jobs


def _rows(text: str, reading: Problems) -> tuple[list[str], list[_Row]]:
    text = text.removeprefix("\ufeff")
    first, _, _ = text.partition("\n")
    delimiter = ";" if ";" in first and "," not in first else ","
    lines = [f"{line}\n" for line in text.split("\n")]
    table = csv.reader(lines, delimiter=delimiter, strict=True)
    heads: list[str] = []
    rows = []
    try:
        for cells in table:
            if not any(cell.strip() for cell in cells):
                continue
            if not heads:
                heads = [cell.strip().lower() for cell in cells]
                _check_heads(heads, reading)
                continue
            row = _row(table.line_num, heads, cells, reading)
            if row:
                rows.append(row)
    except csv.Error as exc:
        where = f"line {table.line_num}"
        reading.wrong(where, "table.malformed", f"{where.capitalize()}: {exc}.")
    if not rows and not reading.problems:
        reading.wrong("line 1", "table.empty", "The table has no row below its head.")
    return heads, rows


def _check_heads(heads: Sequence[str], reading: Problems) -> None:
    """Each column has a name of its own: a value is put into a job by it, and two of one name would
    be a guess.
    """
    where = "line 1"
    for n, head in enumerate(heads):
        if not head:
            message = f"Line 1: column {n + 1} has no name."
            reading.wrong(where, "table.head", message)
        elif head in heads[:n]:
            message = f"Line 1: there are two columns {head}."
            reading.wrong(where, "table.head", message)


def _row(line: int, heads: Sequence[str], cells: Sequence[str], reading: Problems) -> _Row | None:
    """None: it is none; `reading` has why."""
    where = f"line {line}"
    if len(cells) != len(heads):
        message = f"Line {line}: {len(cells)} columns, where the head has {len(heads)}."
        reading.wrong(where, "table.columns", message)
        return None
    stripped = [cell.strip() for cell in cells]
    filled = dict(zip(heads, stripped, strict=True))
    for name in NEEDED:
        if filled.get(name) == "":
            cell = f"{where}, column {name}"
            message = f"{cell.capitalize()}: it is empty."
            reading.wrong(cell, "table.cell-empty", message)
    return _Row(line, filled)


def _jobs(rows: Sequence[_Row], job: str, reading: Problems) -> list[GivenJob]:
    """job: the name of what has none."""
    by_name: dict[str, list[_Row]] = {}
    for row in rows:
        name = row.cells.get("name") or job
        some = by_name.setdefault(name, [])
        some.append(row)
    return [_job(name, some, reading) for name, some in by_name.items()]


def _job(name: str, rows: Sequence[_Row], reading: Problems) -> GivenJob:
    first = rows[0]
    mapping: JsonObject = {"job": name}
    for column in OF_JOB[1:]:
        for row in rows:
            value = row.cells.get(column, "")
            given = mapping.get(column)
            if value and given and value != given:
                where = f"line {row.line}, column {column}"
                message = (
                    f"{where.capitalize()}: {value!r}, where line {first.line} has {given!r} for "
                    f"the same job {name!r}."
                )
                reading.wrong(where, "table.contradicts", message)
            elif value:
                mapping[column] = value
    if "labels" in mapping:
        mapping["labels"] = mapping["labels"].split()
    mapping["legs"] = [_leg(row) for row in rows]
    legs_at = tuple(f"line {row.line}" for row in rows)
    return GivenJob(mapping, legs_at[0], legs_at)


def _leg(row: _Row) -> JsonObject:
    return {side: _filled(row.cells[side], row.cells) for side in NEEDED}


def _filled(text: str, cells: dict[str, str]) -> str:
    """A cell's value in the place of each {column}. The columns that a job's own fields come from
    are no such values.
    """
    for column, value in cells.items():
        if column not in NEEDED:
            text = text.replace(f"{{{column}}}", value)
    return text
