"""For the demo a job that starts by itself whenever a letter comes: what is dropped into its folder
is at the office moments later.
"""

from __future__ import annotations

import os
import time
from pathlib import Path

from pinecart.client import Client
from pinecart.json_object import JsonObject

STORE = "letter-box"
JOB: JsonObject = {
    "job": "letters",
    "title": "Letters of the wardens, as they come",
    "labels": ["survey"],
    "intent": "renew",
    "why": "Whoever is out there asks, and the office answers the same day.",
    "legs": [{"from": f"pine://{STORE}/", "to": "pine://office/larkfell/letters/"}],
    "schedule": {"kind": "changes", "settled": 3, "look": 60},
}
LONG_AGO = 1_772_427_600  # 2026-03-02 05:00 UTC
FIRST_WITHIN_S = 30.0


def make_box(root: Path) -> None:
    root.mkdir()
    drop(root)
    os.utime(root / "letter-01.txt", (LONG_AGO, LONG_AGO))


def drop(root: Path) -> None:
    """One more letter."""
    there = list(root.glob("letter-*.txt"))
    number = len(there) + 1
    file = root / f"letter-{number:02}.txt"
    text = f"Letter {number}: the hut's door sticks, all else is well.\n"
    file.write_text(text)


def await_first(client: Client) -> None:
    """The watcher starts it by itself."""
    deadline = time.monotonic() + FIRST_WITHIN_S
    while time.monotonic() < deadline:
        runs = client.runs(job=JOB["job"], limit=1)
        if runs:
            for _ in client.follow(runs[0]["id"]):
                pass
            return
        time.sleep(0.2)
