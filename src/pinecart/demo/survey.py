"""Generates what the listening posts leave: dawn recordings, spectrogram pictures, count sheets.
The same every time.
"""

from __future__ import annotations

import os
import random
import struct
import zlib
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

POSTS = (
    "aldermurr",
    "brockwen",
    "curlhaven",
    "dunmallow",
    "eskerry",
    "fallowmere",
    "glenlin",
    "harrowfen",
)
SPECIES = (
    "curlew",
    "dunlin",
    "golden plover",
    "lapwing",
    "redshank",
    "skylark",
    "snipe",
    "wheatear",
)
FIRST_DAY = date(2026, 3, 2)
NIGHTS = 22
WEEKS = 8
PICTURES = 150
LONG_NAME = "observer-remarks-" + "-and-".join(
    ("wind", "rain", "hail", "mist", "frost", "haze", "sleet", "thaw") * 3
)


def make_survey(root: Path) -> None:
    """About 400 files, 60 MB, with old times."""
    for i, post in enumerate(POSTS):
        for night in range(NIGHTS):
            day = FIRST_DAY + timedelta(days=night)
            _write(
                root / "recordings" / post / f"{day}-dawn.flac", _recording(i * 1000 + night), day
            )
        for week in range(WEEKS):
            day = FIRST_DAY + timedelta(weeks=week)
            _write(
                root / "sheets" / f"2026-W{10 + week}" / f"{post}.csv",
                _sheet(post, day, i * 100 + week),
                day,
            )
    for n in range(PICTURES):
        _write(root / "pictures" / "curlhaven" / f"spectrogram-{n:03}.png", _picture(n), FIRST_DAY)
    odd = {
        "sheets/read me first.txt": b"Counts are made at dawn, by ear.\n",
        "sheets/empty.txt": b"",
        "sheets/été à Brockwen.csv": _sheet("brockwen", FIRST_DAY, 1),
        "sheets/50% + more #1?.csv": _sheet("eskerry", FIRST_DAY, 2),
        f"sheets/{LONG_NAME[:196]}.txt": b"Nothing to remark.\n",
        "survey.txt": b"Larkfell bird survey, spring 2026.\n",
    }
    for name, body in odd.items():
        _write(root / name, body, FIRST_DAY)


def arrive(root: Path) -> dict[str, list[str]]:
    """Three new recordings arrive, and one count sheet changes. Each call brings later ones."""
    first = POSTS[0]
    recordings = root / "recordings" / first
    night = len(sorted(recordings.glob("*.flac")))
    day = FIRST_DAY + timedelta(days=night)
    arrived = []
    for i, post in enumerate(POSTS[:3]):
        name = f"recordings/{post}/{day}-dawn.flac"
        recording = _recording(i * 1000 + night)
        _write(root / name, recording, None)
        arrived.append(name)
    changed = f"sheets/2026-W10/{first}.csv"
    line = f"{day},corncrake,1,added after listening again ({night})\n"
    with (root / changed).open("ab") as sheet:
        sheet.write(line.encode())
    return {"arrived": arrived, "changed": [changed]}


def _write(file: Path, body: bytes, day: date | None) -> None:
    """Written beside and renamed, so that nobody meets half a file."""
    file.parent.mkdir(parents=True, exist_ok=True)
    half = file.with_name(".arriving")
    half.write_bytes(body)
    if day:
        at = datetime(day.year, day.month, day.day, 5, tzinfo=UTC).timestamp()
        os.utime(half, (at, at))
    os.replace(half, file)


def _recording(seed: int) -> bytes:
    rng = random.Random(seed)  # noqa: S311 - made-up data
    return b"fLaC" + rng.randbytes(rng.randrange(240_000, 420_000))


def _sheet(post: str, day: date, seed: int) -> bytes:
    rng = random.Random(seed)  # noqa: S311
    rows = [
        f"{day + timedelta(days=d)},{bird},{rng.randrange(40)},{post}"
        for d in range(7)
        for bird in SPECIES
    ]
    return ("date,species,heard,post\n" + "\n".join(rows) + "\n").encode()


def _picture(seed: int) -> bytes:
    """A small grey PNG (PNG specification, ISO/IEC 15948)."""
    rng = random.Random(seed)  # noqa: S311
    wide = 128
    high = 64
    rows = b"".join(b"\0" + rng.randbytes(wide) for _ in range(high))

    def chunk(kind: bytes, body: bytes) -> bytes:
        return (
            struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))
        )

    head = struct.pack(">IIBBBBB", wide, high, 8, 0, 0, 0, 0)
    return (
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", head)
        + chunk(b"IDAT", zlib.compress(rows))
        + chunk(b"IEND", b"")
    )
