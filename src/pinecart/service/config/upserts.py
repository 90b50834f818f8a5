"""Many rows written at once through Django's connection: a quarter of what building a model for
each would cost.

Only for what is written by the thousand a second (records, ledger); table and columns come from the
model.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from functools import lru_cache
from typing import Any

from django.db import connection, models

# Rows of one statement. Between two, SQLite gives the interpreter to another thread, and waits to
# have it back; and there are
# few kinds of statements, since each is prepared once.
AT_ONCE = (200, 20, 1)


def upsert(
    model: type[models.Model],
    fields: tuple[str, ...],
    rows: Sequence[Sequence[Any]],
    *,
    unique: tuple[str, ...],
    update: tuple[str, ...],
) -> int:
    """Insert rows of plain values, in the order of `fields`; where `unique` is taken, `update` is
    written over; if there is none, what is there stays. How many were written.

    Numbers instead of truth values, and bytearray instead of bytes, are bound without asking
    sqlite3's list of adapters.
    """
    connection.ensure_connection()
    written = 0
    with connection.wrap_database_errors:
        at = 0
        for count in AT_ONCE:
            while len(rows) - at >= count:
                values = list(itertools.chain.from_iterable(rows[at : at + count]))
                statement = _statement(model, fields, unique, update, count)
                written += connection.connection.execute(statement, values).rowcount
                at += count
    return written


@lru_cache(maxsize=16)
def _statement(
    model: type[models.Model],
    fields: tuple[str, ...],
    unique: tuple[str, ...],
    update: tuple[str, ...],
    rows: int,
) -> str:
    quote = connection.ops.quote_name
    table = quote(model._meta.db_table)
    column = {name: quote(_column(model, name)) for name in fields}
    names = ", ".join(column.values())
    mark = ", ".join(["?"] * len(fields))
    values = ", ".join([f"({mark})"] * rows)
    taken = ", ".join(column[name] for name in unique)
    written = []
    for name in update:
        own = column[name]
        written.append(f"{own} = excluded.{own}")
    change = f"UPDATE SET {', '.join(written)}" if written else "NOTHING"
    into = f"INSERT INTO {table} ({names}) VALUES {values}"  # noqa: S608 - our own names
    return f"{into} ON CONFLICT ({taken}) DO {change}"


def _column(model: type[models.Model], name: str) -> str:
    field = model._meta.get_field(name)
    return str(getattr(field, "column"))  # noqa: B009 - untyped there
