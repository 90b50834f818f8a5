"""Looks a state folder over, without changing it: what is there, whether it belongs together, and
what to do where it doesn't.
"""

from __future__ import annotations

import contextlib
import fcntl
import sqlite3
from collections.abc import Iterator
from typing import NamedTuple

from pinecart.service.config.state import Options, StateError, StateFolder


class CheckResult(NamedTuple):
    """ok: None where it could not be looked at."""

    what: str
    ok: bool | None
    words: str


def look_over(state: StateFolder) -> Iterator[CheckResult]:
    """In the order in which one thing rests on another; the first that is wrong may end it."""
    if not (state.root / "format").exists():
        yield CheckResult(
            "folder", False, f"{state.root} is no state folder: it has no format file."
        )
        return
    try:
        state.check_format()
    except StateError as exc:
        yield CheckResult("format", False, exc.message)
        return
    yield CheckResult(
        "format",
        True,
        f"Format {(state.root / 'format').read_text().split()[0]}, id {state.id or 'none yet'}.",
    )
    yield _in_use(state)
    if not state.database.exists() or not state.database.stat().st_size:
        yield CheckResult(
            "database",
            False,
            f"{state.database} is missing or empty. Put the folder back from a backup.",
        )
        return
    problems = state.damage(quick=False)
    told = (
        " ".join(problems[:5])
        or f"Whole: {state.database.stat().st_size:,} bytes looked at, every page and index."
    )
    yield CheckResult(
        "database", not problems, told + (" Put the folder back from a backup." if problems else "")
    )
    if not problems:
        yield from _belongs_together(state)
        yield from _keys_besides(state)
    yield _disk(state)


def _in_use(state: StateFolder) -> CheckResult:
    marked = (state.root / "in-use").exists()
    wal = state.database.with_name(state.database.name + "-wal").exists()
    if _is_locked(state):
        return CheckResult("service", True, "A service works on this folder now.")
    if marked and not wal:
        words = (
            "The last service did not end cleanly, and its write-ahead log is gone: the last "
            "records are lost. Put it back, or go on without: --go-on"
        )
        return CheckResult("service", False, words)
    if marked:
        words = "The last service did not end cleanly; its runs go on at the next start."
    else:
        words = "Ended cleanly."
    return CheckResult("service", True, words)


def _is_locked(state: StateFolder) -> bool:
    with contextlib.suppress(FileNotFoundError), (state.root / "lock").open() as file:
        try:
            fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
        except OSError:
            return True
    return False


def _belongs_together(state: StateFolder) -> Iterator[CheckResult]:
    if not (state.root / "seal.key").exists():
        yield CheckResult(
            "key", False, "seal.key is missing. Put it back; if it is lost for good: --new-key"
        )
        return
    with contextlib.closing(
        sqlite3.connect(f"file:{state.database}?mode=ro", uri=True, timeout=5)
    ) as opened:
        try:
            known, sealed = opened.execute(
                "SELECT folder, sealed FROM runs_instance"
            ).fetchone() or ("", b"")
            secrets = opened.execute(
                "SELECT name, sealed FROM stores_storerecord WHERE sealed IS NOT NULL"
            ).fetchall()
        except sqlite3.Error as exc:
            yield CheckResult(
                "records",
                None,
                f"They can't be looked at by this release: {exc}. Start the service once.",
            )
            return
    if known != state.id:
        yield CheckResult(
            "id",
            False,
            (
                f"The database is another folder's ({known}, not {state.id}). Put back what "
                "belongs here."
            ),
        )
        return
    yield CheckResult("id", True, "Folder and database belong together.")
    yield CheckResult(
        "key",
        state.opens(sealed),
        "It is this database's." if state.opens(sealed) else "It is another database's.",
    )
    for name in [name for name, secret in secrets if not state.opens(secret)]:
        yield CheckResult(
            "key",
            False,
            (
                f"The secret of the store {name} can't be read with it. Give it again: pinecart "
                f"store change {name} --new-secret"
            ),
        )


def _keys_besides(state: StateFolder) -> Iterator[CheckResult]:
    """Without them a start makes new ones, which don't fit what was written before."""
    for name, words in (
        ("trail.key", "the trail up to now can't be verified without it"),
        ("sign.key", "the next start makes a new one, with another public key"),
    ):
        if not (state.root / name).exists():
            yield CheckResult("key", False, f"{name} is missing: {words}. Put it back.")


def _disk(state: StateFolder) -> CheckResult:
    """Whether runs may start. Below the bound a run could leave a database that can't be written to
    any more.
    """
    free = state.free_bytes()
    wanted = Options().least_free
    words = f"{free:,} bytes are free."
    is_enough = free >= wanted
    if not is_enough:
        words += f" No run starts below {wanted:,}. Make room."
    return CheckResult("disk", is_enough, words)


def go_on_without(state: StateFolder) -> None:
    """Begin without the records that a write-ahead log held, which is gone."""
    (state.root / "in-use").unlink(missing_ok=True)
