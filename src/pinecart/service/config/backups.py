"""Backups of a state folder, made while runs go on, and what is made of one again.

backup.json   what is in it, when it was made, by which release, and the SHA-256 of each file
The rest is called as in the state folder. Key files are in it only where that was asked for.
"""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import sqlite3
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from typing import NamedTuple

from pinecart import __version__
from pinecart.json_object import JsonObject
from pinecart.service.config.state import StateError, StateFolder, write_whole

KEYS = ("seal.key", "trail.key", "sign.key", "django.key")
MANIFEST = "backup.json"
RESTORED = "restored"
FORM = "pinecart-backup/1"


class Restored(NamedTuple):
    """made_at: the backup.   missing: keys that were not in it."""

    made_at: str
    missing: list[str]


def make_backup(state: StateFolder, place: Path, *, with_keys: bool) -> JsonObject:
    """Into a folder that is not there yet. What is in it was checked. Raises StateError."""
    state.check_format()
    if place.exists():
        raise StateError(f"{place} is there already. Give a folder that isn't.")
    if place.resolve().is_relative_to(state.root.resolve()):
        raise StateError(f"{place} lies in the state folder itself. Give another folder.")
    new = place.with_name(place.name + ".new")
    shutil.rmtree(new, ignore_errors=True)
    try:
        (new / "runs").mkdir(parents=True, mode=0o700)
        _copy_database(state, new / state.database.name)
        for name in ("format", "options.json", *(KEYS if with_keys else ())):
            if (state.root / name).exists():
                shutil.copy2(state.root / name, new / name)
        for log in sorted((state.root / "runs").glob("*.log.jsonl*")):
            shutil.copy2(log, new / "runs" / log.name)
        told = _manifest(new, with_keys=with_keys)
        write_whole(new / MANIFEST, json.dumps(told, indent=1))
        new.rename(place)
    except OSError as exc:
        raise StateError(f"{place} can't be written: {exc.strerror or exc}.") from exc
    return told


def _copy_database(state: StateFolder, to: Path) -> None:
    """As it is at one moment, whoever writes meanwhile; and looked over."""
    os.close(os.open(to, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
    source = f"file:{state.database}?mode=ro"
    with closing(sqlite3.connect(source, uri=True)) as now, closing(sqlite3.connect(to)) as copy:
        now.backup(copy, pages=2000, sleep=0.01)
        copy.execute("PRAGMA journal_mode=DELETE")
        if copy.execute("PRAGMA integrity_check").fetchone() != ("ok",):
            raise StateError(
                f"The copy of the database is not whole. Look the folder over: pinecart check "
                f"--data {state.root}",
                code="state.damaged",
            )


def _manifest(folder: Path, *, with_keys: bool) -> JsonObject:
    files = {
        str(file.relative_to(folder)): {"bytes": file.stat().st_size, "sha256": _digest(file)}
        for file in sorted(folder.rglob("*"))
        if file.is_file()
    }
    return {
        "form": FORM,
        "made_at": datetime.now(UTC).isoformat(timespec="seconds"),
        "release": __version__,
        "with_keys": with_keys,
        "files": files,
    }


def _digest(file: Path) -> str:
    with file.open("rb") as opened:
        return hashlib.file_digest(opened, "sha256").hexdigest()


def restore(place: Path, state: StateFolder) -> Restored:
    """Into a state folder that is not there yet. Raises StateError: then nothing was made."""
    told = _checked(place)
    root = state.root
    if root.exists() and os.listdir(root):
        raise StateError(f"{root} is not empty. Give a folder that isn't there yet.")
    new = root.with_name(root.name + ".new")
    shutil.rmtree(new, ignore_errors=True)
    for name in told["files"]:
        file = new / name
        file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        shutil.copy2(place / name, file)
    made_at = told["made_at"]
    write_whole(new / RESTORED, made_at)
    new.chmod(0o700)
    StateFolder(new).check_format()
    if root.exists():
        root.rmdir()
    new.rename(root)
    missing = [name for name in KEYS if not (root / name).exists()]
    return Restored(made_at, missing)


def _checked(place: Path) -> JsonObject:
    """The manifest, once every file is as it says. Raises StateError."""
    try:
        told: JsonObject = json.loads((place / MANIFEST).read_text())
        files = told["files"]
    except (OSError, ValueError, KeyError) as exc:
        raise StateError(f"{place} is no backup: it has no {MANIFEST} that can be read.") from exc
    for name, wanted in files.items():
        file = place / name
        if Path(name).is_absolute() or ".." in Path(name).parts:
            raise StateError(f"{place} is no backup: {name!r} lies outside it.")
        if not file.is_file():
            raise StateError(f"{name} is missing in the backup {place}.")
        if _digest(file) != wanted["sha256"]:
            raise StateError(f"{file} is not as it was backed up. Take another backup.")
    return told
