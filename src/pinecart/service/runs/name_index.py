"""An index of the names in runs' records, so that a part of a name is found among millions.

It is a file of its own (SQLite's FTS5, three letters at a time), filled a little later than the
records: what it doesn't know yet is looked through. It can be taken away at any time, and is made
anew. Each name that it finds is looked at once more: it may know of records that are no more.
"""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterable, Iterator, Sequence

from pinecart.service.config.settings import STATE

FILE = "names.sqlite3"
LEAST = 3  # letters that it takes to be found by it
_MADE = """
CREATE TABLE IF NOT EXISTS mark (id INTEGER PRIMARY KEY CHECK (id = 1), record INTEGER NOT NULL);
INSERT OR IGNORE INTO mark VALUES (1, 0);
CREATE VIRTUAL TABLE IF NOT EXISTS names
    USING fts5(name, content='', detail='none', columnsize=0, tokenize='trigram');
"""
_FOUND = "SELECT rowid FROM names WHERE names MATCH ? AND rowid > ? AND rowid < ?"
_OLDEST = f"{_FOUND} ORDER BY rowid ASC LIMIT ?"
_NEWEST = f"{_FOUND} ORDER BY rowid DESC LIMIT ?"


@contextlib.contextmanager
def _opened() -> Iterator[sqlite3.Connection]:
    """The file may be lost at any time without harm: it is made anew from the records, so that
    nothing waits for the disk.
    """
    with contextlib.closing(sqlite3.connect(STATE.root / FILE, timeout=5)) as made, made:
        made.execute("PRAGMA journal_mode=WAL")
        made.execute("PRAGMA synchronous=OFF")  # whatever is lost is made anew
        yield made


def indexed_up_to() -> int:
    """The number of the last record whose name it knows; 0: there is no index yet."""
    if not (STATE.root / FILE).exists():
        return 0
    try:
        with _opened() as index:
            return int(index.execute("SELECT record FROM mark").fetchone()[0])
    except sqlite3.DatabaseError:
        return 0


def add_names(rows: Sequence[tuple[int, bytes]]) -> None:
    """(number, key) of records, in the order of their numbers. A damaged index is made anew."""
    try:
        with _opened() as index:
            index.executescript(_MADE)
            index.executemany(
                "INSERT INTO names (rowid, name) VALUES (?, ?)", [(n, _text(k)) for n, k in rows]
            )
            index.execute("UPDATE mark SET record = ?", [rows[-1][0]])
    except sqlite3.DatabaseError:
        (STATE.root / FILE).unlink(missing_ok=True)


def forget_names(rows: Iterable[tuple[int, bytes]]) -> None:
    """Of records that are no more."""
    if not (STATE.root / FILE).exists():
        return
    with contextlib.suppress(sqlite3.DatabaseError), _opened() as index:
        (known,) = index.execute("SELECT record FROM mark").fetchone()
        index.executemany(
            "INSERT INTO names (names, rowid, name) VALUES ('delete', ?, ?)",
            [(number, _text(key)) for number, key in rows if number <= known],
        )


def can_find(words: Sequence[bytes]) -> bool:
    """Whether these parts of a name are long enough."""
    return any(len(_text(word)) >= LEAST for word in words)


def numbers_found(
    words: Sequence[bytes], *, above: int, below: int, limit: int, newest_first: bool
) -> list[int]:
    """Numbers of records whose names may have all of these parts, between two others."""
    asked = [_query(words), above, below, limit]
    with _opened() as index:
        found = index.execute(_NEWEST if newest_first else _OLDEST, asked)
        return [number for (number,) in found]


def _query(words: Sequence[bytes]) -> str:
    """All runs of three letters in all of the words."""
    threes = set()
    for word in words:
        text = _text(word)
        last = len(text) - LEAST
        for i in range(last + 1):
            threes.add(text[i : i + LEAST])
    quoted = []
    for three in sorted(threes):
        escaped = three.replace('"', '""')
        quoted.append(f'"{escaped}"')
    return " AND ".join(quoted)


def _text(key: bytes) -> str:
    return key.decode("utf-8", "replace").replace("\0", "�")
