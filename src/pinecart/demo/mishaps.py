"""Two mishaps for the demo, so that both can be met: a mirror whose source lost a folder, a file
that was changed on both sides.
"""

from __future__ import annotations

import shutil
from pathlib import Path

from pinecart.client import Client
from pinecart.json_object import JsonObject

STORE = "ridge-hut"
NIGHTS = 24
JOBS: list[JsonObject] = [
    {
        "job": "ridge-mirror",
        "title": "The ridge hut's disk, exactly",
        "labels": ["survey"],
        "intent": "mirror",
        "why": "What is tidied up at the hut is to be tidied up at the office.",
        "legs": [{"from": f"pine://{STORE}/", "to": "pine://office/larkfell/ridge-hut/"}],
    },
    {
        "job": "field-notes",
        "title": "Field notes for the analysts",
        "labels": ["analysts"],
        "intent": "renew",
        "why": "The analysts read the warden's notes beside the counts.",
        "legs": [{"from": f"pine://{STORE}/notes/", "to": "pine://counts/notes/"}],
    },
]


def make_hut(root: Path) -> None:
    """Recordings and notes."""
    recordings = root / "recordings"
    notes = root / "notes"
    for folder in (recordings, notes):
        folder.mkdir(parents=True, exist_ok=True)
    for night in range(NIGHTS):
        file = recordings / f"2026-03-{night + 1:02}-dusk.flac"
        sound = b"dusk %02d " % night
        file.write_bytes(sound * 900)
    for name in ("warden", "weather", "gear"):
        file = notes / f"{name}.txt"
        file.write_text(f"{name}: all as it should be\n")


def let_happen(client: Client, files: Path) -> None:
    """After a first run of each job: what goes wrong, and the runs that meet it."""
    hut = files / STORE
    shutil.move(hut / "recordings", files / f"{STORE}-lost")
    (hut / "notes" / "warden.txt").write_text("warden: the hut's disk was unplugged\n")
    (files / "counts" / "notes" / "warden.txt").write_text("warden: read, and noted here\n")
    for job in JOBS:
        number = client.start(job["job"])["id"]
        for _ in client.follow(number):
            pass
