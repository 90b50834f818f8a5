"""What runs came to, week by week."""

from __future__ import annotations

import sys
from datetime import datetime, timedelta

import click

from pinecart.cli.frame import Cart, output_option, say
from pinecart.cli.lanes import SIGNS
from pinecart.cli.words import coloured, size, span, table
from pinecart.json_object import JsonObject

SLOTS = 56  # of three hours


@click.command()
@click.argument("job", default="")
@click.option(
    "--weeks", type=click.IntRange(1, 13), default=8, show_default=True, help="How far back."
)
@output_option
def history(cart: Cart, job: str, weeks: int) -> None:
    """What the runs of a job, or of all jobs, came to week by week.

    \b
    pinecart history dawn-recordings
    """
    found = cart.client.weeks(job, weeks=weeks)
    cart.show(found, lambda: _told(found))


def _told(weeks: list[JsonObject]) -> None:
    if not any(week["runs"] for week in weeks):
        say(f"No run has ended in {len(weeks)} weeks.")
        return
    heads = ["week of", "runs", "came to", "files", "bytes", "problems", "usually took"]
    rows = [
        [
            week["since"][:10],
            f"{week['runs']:,}",
            ", ".join(f"{n:,} {outcome}" for outcome, n in sorted(week["outcomes"].items())),
            f"{week['files']:,}",
            size(week["bytes"]),
            f"{week['problems']:,}",
            _took(week["lasted"]),
        ]
        for week in weeks
    ]
    table(heads, rows, numbers=[1, 3, 4, 5], flexible=2)
    if sys.stdout.isatty():
        _draw(weeks)


def _took(lasted: JsonObject | None) -> str:
    if lasted is None:
        return "-"
    return f"{span(lasted['usual'])} ({span(lasted['least'])} to {span(lasted['most'])})"


DAYS = ("Mo", "Tu", "We", "Th", "Fr", "Sa", "Su")


def _cells(week: JsonObject) -> list[str]:
    """One for every three hours."""
    cells = ["·"] * SLOTS
    begin = datetime.fromisoformat(week["since"])
    for mark in week["marks"]:
        at = datetime.fromisoformat(mark["since"])
        slot = (at - begin) // timedelta(hours=3)
        name = mark["mark"]
        sign = SIGNS.get(name, "?")
        cells[slot] = coloured(sign, name)
    return cells


def _draw(weeks: list[JsonObject]) -> None:
    """A line a week, a mark where runs ended."""
    days = [day.ljust(8) for day in DAYS]
    head = "".join(days)
    click.echo(f"\n{'':<11}{head}")
    for week in weeks:
        monday = week["since"][:10]
        cells = _cells(week)
        click.echo(f"{monday} {''.join(cells)}")
