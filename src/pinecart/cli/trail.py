"""The trail: who did what."""

from __future__ import annotations

from typing import Any

import click

from pinecart.cli.frame import Cart, Words, output_option
from pinecart.cli.words import table
from pinecart.json_object import JsonObject


@click.group(cls=Words)
def trail() -> None:
    """Who did what.

    \b
    pinecart trail list
    """


@trail.command("list")
@click.option("--who", default="", help="Only what this person did.")
@click.option(
    "--what", default="", help="Only this, such as job.changed; job for all that begins so."
)
@click.option("--which", default="", help="Only where this is in the name of what it was done to.")
@click.option(
    "--since", default="", metavar="DATE", help="Only from this day on (UTC), such as 2026-03-02."
)
@click.option("--until", default="", metavar="DATE", help="Only up to this day.")
@click.option("--limit", default=50, show_default=True, help="How many lines.")
@output_option
def trail_list(cart: Cart, limit: int, **asked: str) -> None:
    """Who did what, newest first; of a change, what was before and after.

    \b
    pinecart trail list --who wren --what job
    """
    given = {name: value for name, value in asked.items() if value}
    lines = cart.client.trail(limit=limit, **given)
    heads = ["at (UTC)", "who", "what", "which", "facts"]
    rows = [_row_of(line) for line in lines]
    cart.show(lines, lambda: table(heads, rows, flexible=4))


def _row_of(line: JsonObject) -> list[str]:
    return [
        line["at"][:19].replace("T", " "),
        line["who"],
        line["action"],
        line["subject"],
        _facts(line["facts"]),
    ]


def _facts(facts: JsonObject) -> str:
    """Of a change, `field: before → after`; other facts as they are."""
    before, after = facts.get("before"), facts.get("after")
    if isinstance(before, dict) and isinstance(after, dict):
        return _changes(before, after)
    told = []
    for name, value in facts.items():
        if value not in ("", None, [], {}):
            told.append(f"{name} {_text(value)}")
    return ", ".join(told)


def _changes(before: JsonObject, after: JsonObject) -> str:
    changes = []
    for field in before | after:
        old = _text(before.get(field))
        new = _text(after.get(field))
        changes.append(f"{field}: {old} → {new}")
    return "; ".join(changes) or "nothing differs"


def _text(value: Any) -> str:
    if isinstance(value, list):
        return ", ".join(map(_text, value)) or "none"
    return "none" if value in (None, "") else str(value)
