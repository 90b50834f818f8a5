"""How things are printed: marks, sizes, ages, tables without boxes; plain where it
is no terminal.
"""

from __future__ import annotations

import re
import shutil
import sys
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime

import click

from pinecart.json_object import JsonObject

POWERS = {"": 0, "b": 0, "kib": 10, "mib": 20, "gib": 30, "tib": 40}
MARKS = {
    "clean": "✓ clean",
    "nothing-to-do": "○ nothing to do",
    "problems": "▲ problems",
    "failed": "✗ failed",
    "stopped": "□ stopped",
    "skipped": "◇ skipped",
    "queued": "◌ queued",
    "working": "● working",
    "held": "◆ waiting for your yes",
    "paused": "◐ paused",
    "interrupted": "↻ interrupted",
}
COLOURS = {
    "clean": "green",
    "problems": "yellow",
    "failed": "red",
    "held": "yellow",
    "working": "cyan",
    "interrupted": "yellow",
}


def mark(run: JsonObject) -> str:
    word = run["outcome"] or run["state"]
    return coloured(MARKS[word], word)


def coloured(text: str, word: str) -> str:
    """Colour only together with a mark; click takes it off where it is no terminal."""
    if word in COLOURS:
        return click.style(text, fg=COLOURS[word])
    return text


def size(n: int | None) -> str:
    """`3.1 GiB`; nothing for None."""
    if n is None:
        return ""
    value = float(n)
    unit = "B"
    for unit in ("B", "KiB", "MiB", "GiB", "TiB"):
        if value < 1024 or unit == "TiB":
            break
        value /= 1024
    if unit == "B":
        return f"{n:,} B"
    return f"{value:,.1f} {unit}"


def files(n: int) -> str:
    if n == 1:
        return f"{n:,} file"
    return f"{n:,} files"


def span(seconds: float) -> str:
    """`3 min 20 s`."""
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60} s"
    if whole < 48 * 3600:
        return f"{whole // 3600} h {whole % 3600 // 60} min"
    return f"{whole // 86400} days"


def age(text: str | None, now: datetime | None = None) -> str:
    """`4 min ago`, `in 3 h 5 min`, or `never`."""
    if not text:
        return "never"
    moment = datetime.fromisoformat(text)
    since = (now or datetime.now(UTC)) - moment
    seconds = since.total_seconds()
    if seconds < 0:
        return f"in {span(-seconds)}"
    return f"{span(seconds)} ago"


def width() -> int:
    if sys.stdout.isatty():
        return shutil.get_terminal_size((100, 24)).columns
    return 10_000


def cut(text: str, limit: int) -> str:
    """Cut in the middle, so that both ends of a place stay."""
    if len(text) <= limit:
        return text
    keep = max(limit - 1, 2)
    first = keep // 2
    last = keep - first
    return f"{text[:first]}…{text[-last:]}"


def _width(cell: str) -> int:
    """On the screen: colours take no room."""
    return len(click.unstyle(cell))


def _widths(lines: list[list[str]], flexible: int) -> list[int]:
    """Of each column; together no wider than the window."""
    wide = []
    for column in zip(*lines, strict=True):
        wide.append(max(map(_width, column)))
    between = 2 * (len(wide) - 1)
    over = sum(wide) + between - width()
    if over > 0:
        wide[flexible] -= over
    wide[flexible] = max(8, wide[flexible])
    return wide


def table(
    heads: Sequence[str],
    rows: Iterable[Sequence[str]],
    *,
    numbers: Iterable[int] = (),
    flexible: int = 0,
) -> None:
    """Aligned columns, no boxes, never wider than the window: the flexible column gives way.
    numbers: right-aligned ones.
    """
    lines = [[str(cell) for cell in row] for row in (heads, *rows)]
    if len(lines) == 1:
        click.echo("There is nothing to list.")
        return
    right = set(numbers)
    if not sys.stdout.isatty():
        # nothing is cut there: what is long goes last, where it makes no other column wide
        order = [i for i in range(len(heads)) if i != flexible]
        order.append(flexible)
        lines = [[line[i] for i in order] for line in lines]
        right = {order.index(i) for i in right}
        flexible = len(order) - 1
    wide = _widths(lines, flexible)
    for n, line in enumerate(lines):
        cells = []
        for i, cell in enumerate(line):
            shown = cut(cell, wide[i]) if i == flexible else cell
            pad = " " * (wide[i] - _width(shown))
            cells.append(pad + shown if i in right else shown + pad)
        told = "  ".join(cells).rstrip()
        is_head = n == 0
        click.echo(click.style(told, dim=True) if is_head else told)


def bytes_in(text: str) -> int:
    """`500`, `5 MiB`, `1.5GiB` in bytes. Raises UsageError."""
    found = re.fullmatch(r"\s*([0-9]+\.?[0-9]*|\.[0-9]+)\s*([kmgt]ib|b|)\s*", text.lower())
    if not found:
        raise click.UsageError(f"{text!r} is no size: write it as 500, '5 MiB' or '1.5 GiB'.")
    number = float(found[1])
    power = POWERS[found[2]]
    return int(number * (1 << power))


def older_than(at: str | None, *, days: int) -> bool:
    """Whether a time as the service tells it lies so many days back."""
    return at is not None and (datetime.now(UTC) - datetime.fromisoformat(at)).days >= days
