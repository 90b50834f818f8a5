"""Decisions given out to be carried by another process, and its answer. Plain JSON, so that any
engine can take them along.

A batch names its stores by their location and its rules by the definition's digest: it holds no
secret. It may be given out again, or twice at once: what was carried by the one is recognised by
the other (`again`).
"""

from __future__ import annotations

import json
from base64 import b64decode, b64encode
from typing import Any, NamedTuple

from pinecart.core.entries import Entry, Row
from pinecart.core.errors import Incomplete, PlaceLost, SignInRefused, StoreError
from pinecart.core.ports import Placed
from pinecart.json_object import JsonObject

SCHEMA = 2
HALTING = (SignInRefused, PlaceLost)
MOST = 1000  # decisions in a batch
MOST_BYTES = 1 << 30


class Task(NamedTuple):
    """One object to be carried, as planned. replaces: what lies there; None: nothing."""

    key: bytes
    entry: Entry
    replaces: Entry | None


class Batch(NamedTuple):
    """source, target: locations.   again: it may have been given out before, to one that never
    answered.
    """

    number: int
    run: int
    leg: int
    epoch: int
    definition: str
    source: str
    target: str
    tasks: tuple[Task, ...]
    again: bool = False

    def text(self) -> str:
        tasks = [[_text(t.key), plain(t.entry), plain(t.replaces)] for t in self.tasks]
        return json.dumps({"schema": SCHEMA, **self._asdict(), "tasks": tasks})

    @classmethod
    def read(cls, text: str) -> Batch:
        """Raises Incomplete for what this program doesn't understand."""
        told = _known(text)
        if len(told["tasks"]) > MOST:
            raise Incomplete(
                f"A batch of {len(told['tasks'])} decisions: {MOST} are the most.",
                code="batch.too-large",
            )
        tasks = []
        for key_text, entry, replaces in told.pop("tasks"):
            key = b64decode(key_text)
            planned = from_plain(key, entry)
            assert planned is not None
            tasks.append(Task(key, planned, from_plain(key, replaces)))
        return cls(tasks=tuple(tasks), **told)


class Parts(NamedTuple):
    """Parts of one large object's upload, to be sent by another process.

    step: bytes of each but the last.   numbers: from 1.
    """

    number: int
    run: int
    leg: int
    epoch: int
    definition: str
    source: str
    target: str
    key: bytes
    entry: Entry
    upload: str
    step: int
    numbers: tuple[int, ...]

    def text(self) -> str:
        told = self._asdict() | {"key": _text(self.key), "entry": plain(self.entry)}
        return json.dumps({"schema": SCHEMA, **told})

    @classmethod
    def read(cls, text: str) -> Parts:
        """Raises Incomplete for what this program doesn't understand."""
        told = _known(text)
        numbers = tuple(told.pop("numbers"))
        count = len(numbers)
        if count * told["step"] > MOST_BYTES:
            message = f"A batch of {count} parts: over 1 GiB."
            raise Incomplete(message, code="batch.too-large")
        key = b64decode(told.pop("key"))
        entry = from_plain(key, told.pop("entry"))
        assert entry is not None
        return cls(key=key, entry=entry, numbers=numbers, **told)


class Sent(NamedTuple):
    """One part that the store has."""

    etag: str
    crc: str


class Carried(NamedTuple):
    """One object that lies at its place. seconds: of the last try."""

    placed: Placed
    row: Row
    size: int
    tries: int
    entry: Entry
    seconds: float = 0.0


Result = Carried | Sent | StoreError | None


class BatchAnswer(NamedTuple):
    """What became of each decision of a batch, or of each part, in its order.

    None: it was not tried, or is to be tried again.
    """

    number: int
    run: int
    leg: int
    epoch: int
    results: tuple[Result, ...]
    requests: dict[str, int] = {}

    def text(self) -> str:
        told = [_result(r) for r in self.results]
        return json.dumps({"schema": SCHEMA, **self._asdict(), "results": told})

    @classmethod
    def read(cls, text: str) -> BatchAnswer:
        """Raises Incomplete for what this program doesn't understand."""
        told = _known(text)
        results = tuple(_read_result(r) for r in told.pop("results"))
        return cls(results=results, **told)


def _known(text: str) -> JsonObject:
    told: JsonObject = json.loads(text)
    schema = told.pop("schema", None)
    if schema != SCHEMA:
        message = (
            f"A batch of schema {schema}: this program knows {SCHEMA}. Use the same version on "
            "both sides."
        )
        raise Incomplete(message, code="batch.schema")
    return told


def _text(key: bytes) -> str:
    return b64encode(key).decode()


def plain(entry: Entry | None) -> list[Any] | None:
    """An entry for JSON, without its key."""
    if entry:
        return [*entry[1:-1], _text(entry.was)]
    return None


def from_plain(key: bytes, told: list[Any] | None) -> Entry | None:
    if told:
        return Entry._make([key, *told[:-1], b64decode(told[-1])])
    return None


def _result(result: Result) -> Any:
    """As JSON, so that a helper's answer can be told to its run: None stays None, a refusal keeps
    its code, its words and its plain facts, and what was placed is one row of numbers and texts.
    """
    if result is None:
        return None
    if isinstance(result, StoreError):
        facts = {k: v for k, v in result.facts.items() if isinstance(v, str | int | float)}
        told = {"code": result.code, "message": result.message, "facts": facts}
        halts = next((kind.__name__ for kind in HALTING if isinstance(result, kind)), "")
        return told | ({"halts": halts} if halts else {})
    if isinstance(result, Sent):
        return list(result)
    placed, row, size, tries, entry, seconds = result
    return [
        _text(entry.key),
        plain(entry),
        _text(placed.entry.key),
        plain(placed.entry),
        *placed[1:],
        *row.stored()[1:],
        size,
        tries,
        round(seconds, 6),
    ]


def _read_result(told: Any) -> Result:
    if told is None:
        return None
    if isinstance(told, dict):
        kind = next((kind for kind in HALTING if kind.__name__ == told.get("halts")), StoreError)
        return kind(told["message"], code=told["code"], **told["facts"])
    if len(told) == len(Sent._fields):
        return Sent(*told)
    (
        key_text,
        entry,
        there,
        placed,
        proof,
        guarded,
        crc,
        lost,
        left,
        source,
        target,
        state,
        size,
        tries,
        seconds,
    ) = told
    key = b64decode(key_text)
    carried = from_plain(key, entry)
    lies = from_plain(b64decode(there), placed)
    assert carried is not None and lies is not None
    return Carried(
        Placed(lies, proof, guarded, crc, lost, left),
        Row.read((key, source, target, state)),
        size,
        tries,
        carried,
        seconds,
    )
