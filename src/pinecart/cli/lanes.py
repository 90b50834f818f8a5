"""The last 24 hours in a terminal: a lane a job, a mark where a run ended; and what was carried a
day.
"""

from __future__ import annotations

import sys
from datetime import datetime, timedelta

import click

from pinecart.cli.words import coloured, size
from pinecart.json_object import JsonObject

CELLS, MOST_NAME = 48, 24  # half an hour each
SIGNS = {
    "clean": "✓",
    "nothing-to-do": "○",
    "problems": "▲",
    "failed": "✗",
    "stopped": "□",
    "skipped": "◇",
    "queued": "◌",
    "working": "●",
    "held": "◆",
    "paused": "◐",
    "interrupted": "↻",
}
BARS = " ▁▂▃▄▅▆▇█"


def _padded(name: str) -> str:
    shown = name[:MOST_NAME]
    return shown.ljust(MOST_NAME)


def _draw_days(days: list[JsonObject]) -> None:
    """A bar a day, of the bytes that were carried."""
    most = max(day["bytes"] for day in days)
    if not most:
        return
    bars = []
    for day in days:
        eighths = -(-8 * day["bytes"] // most)
        bars.append(BARS[eighths])
    title = _padded("Carried in 14 days")
    click.echo(f"\n{title} {''.join(bars)}  at most {size(most)} a day")


def draw_lanes(picture: JsonObject) -> None:
    """Only on a terminal: elsewhere the same facts stand in the lists."""
    lanes = picture["lanes"]
    if not sys.stdout.isatty() or not lanes:
        return
    since = datetime.fromisoformat(picture["since"])
    now = datetime.fromisoformat(picture["now"])
    title = _padded("The last 24 hours")
    between = " " * (CELLS - 10)
    click.echo(f"\n{title} {since:%H:%M}{between}{now:%H:%M}")
    for lane in lanes:
        name = _padded(lane["job"])
        click.echo(f"{name} {_lane(lane, since, now)}")
    more = picture["more_lanes"]
    if more:
        click.echo(f"and {more} more jobs")
    _draw_days(picture["days"])


def _lane(lane: JsonObject, since: datetime, now: datetime) -> str:
    """A mark in the cell where each run ended, or is now."""
    cells = ["·"] * CELLS
    for run in lane["runs"]:
        ended = now
        if run["ended_at"]:
            ended = datetime.fromisoformat(run["ended_at"])
        name = run["mark"]
        sign = SIGNS.get(name, "?")
        cells[_cell(ended, since)] = coloured(sign, name)
    return "".join(cells)


def _cell(at: datetime, since: datetime) -> int:
    passed = (at - since) / timedelta(hours=24)
    return min(max(int(passed * CELLS), 0), CELLS - 1)
