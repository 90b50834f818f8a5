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


def draw_lanes(picture: JsonObject) -> None:
    """Only on a terminal: elsewhere the same facts stand in the lists."""
    if not sys.stdout.isatty() or not picture["lanes"]:
        return
    since, now = (datetime.fromisoformat(picture[name]) for name in ("since", "now"))
    click.echo(f"\n{'The last 24 hours':<{MOST_NAME}} {since:%H:%M}{'':<{CELLS - 10}}{now:%H:%M}")
    for lane in picture["lanes"]:
        click.echo(f"{lane['job'][:MOST_NAME]:<{MOST_NAME}} {_lane(lane, since, now)}")
    if picture["more_lanes"]:
        click.echo(f"and {picture['more_lanes']} more jobs")
    most = max(day["bytes"] for day in picture["days"])
    if most:
        bars = "".join(BARS[-(-8 * day["bytes"] // most)] for day in picture["days"])
        click.echo(f"\n{'Carried in 14 days':<{MOST_NAME}} {bars}  at most {size(most)} a day")


def _lane(lane: JsonObject, since: datetime, now: datetime) -> str:
    cells = ["·"] * CELLS
    for run in lane["runs"]:
        ended = datetime.fromisoformat(run["ended_at"]) if run["ended_at"] else now
        cells[_cell(ended, since)] = coloured(SIGNS.get(run["mark"], "?"), run["mark"])
    return "".join(cells)


def _cell(at: datetime, since: datetime) -> int:
    passed = (at - since) / timedelta(hours=24)
    return min(max(int(passed * CELLS), 0), CELLS - 1)
