"""Signs of life of the service's processes: a file each, touched at every turn."""

from __future__ import annotations

from pinecart.service.config.settings import STATE

PARTS = ("Clock", "Watcher", "Notifier", "Worker")
QUIET_S = 60.0  # a process that has not shown life for so long is not well


def show_life(part: str) -> None:
    folder = STATE.root / "alive"
    folder.mkdir(exist_ok=True)
    (folder / part).touch()


def parts_alive(now: float) -> dict[str, float]:
    """part → seconds since it last showed life; one that never did is missing.

    now: seconds since 1970.
    """
    found = {}
    for part in PARTS:
        file = STATE.root / "alive" / part
        if file.exists():
            found[part.lower()] = max(now - file.stat().st_mtime, 0.0)
    return found


def parts_missing(now: float) -> list[str]:
    """Those that show no life."""
    seconds = parts_alive(now)
    return [p.lower() for p in PARTS if seconds.get(p.lower(), QUIET_S) >= QUIET_S]
