"""What a remote tree was found out to do, and how its looks become entries."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

from pinecart.core.entries import LINK, Entry
from pinecart.core.folding import Folding
from pinecart.core.ports import Abilities
from pinecart.drivers.remote_tree.remote_files import FileKind, FileLook
from pinecart.json_object import JsonObject


class TreeFacts(NamedTuple):
    """probed: by writing; without, what mostly is so, and what is safe.   guards: it refuses to
    rename over what is there.   conditions: it replaces and removes only what has the ETag that is
    named.   keeps_etags: an ETag stays the same under another name.   step_ns: times nearer than
    this may be the same.   unheld: signs at which it takes a name apart.
    """

    folding: Folding = Folding()
    step_ns: int = 1_000_000_000
    keeps_times: bool = True
    guards: bool = False
    conditions: bool = False
    keeps_etags: bool = False
    unheld: str = ""
    probed: bool = False

    @classmethod
    def read(cls, told: Mapping[str, Any]) -> TreeFacts:
        """As a try found it and it is kept; one that did not ask all of this is none."""
        if not told.get("probed") or not told.keys() >= set(cls._fields):
            return cls()
        known = {name: told[name] for name in cls._fields}
        known["folding"] = Folding(*told["folding"])
        return cls(**known)

    def as_json(self) -> JsonObject:
        if self.probed:
            return self._asdict() | {"folding": list(self.folding)}
        return {}

    def able(self) -> Abilities:
        return Abilities(
            create_only=self.guards,
            has_folders=True,
            keeps_times=self.keeps_times,
            folding=self.folding,
            time_step_ns=self.step_ns,
        )


def entry_of(key: bytes, found: FileLook, *, links: str = "") -> Entry:
    """links: "keep": a link is one of its own."""
    entry = Entry(key, found.size, found.modified_ns, found.etag)
    if found.kind is FileKind.FILE:
        return entry
    if found.kind is FileKind.UNREADABLE:
        return entry._replace(fault="unreadable")
    if found.kind is FileKind.LINK and links == "keep":
        return entry._replace(kind=LINK)
    return entry._replace(fault="not-a-file")
