"""What lies in one place, summed up while it is listed: by folder, age and kind, and the largest.
In bounded memory, whatever is listed: of very many folders beside one another the largest are told,
and the others together.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterator
from dataclasses import dataclass, field
from operator import attrgetter

from pinecart.core.places import key_fields
from pinecart.json_object import JsonObject

KEPT = (100, 30, 30)  # folders that are told apart at each level: what lies deeper is theirs
MOST_TOLD = 5000  # of all levels: then only the largest of the deepest are told
MOST_KINDS = 200
MOST_LARGEST = 50
DAY_NS = 86_400 * 10**9
AGES = (
    ("a day", 1),
    ("a week", 7),
    ("a month", 31),
    ("three months", 92),
    ("a year", 365),
    ("three years", 3 * 365),
)
OLDER = "older"
UNKNOWN = "unknown"
NO_KIND = "none"
OTHER_KINDS = "others"
LONGEST_KIND = 10


@dataclass(slots=True)
class FolderSum:
    """prefix: below the place, ending in `/`; of the place itself empty.   newest: ns; 0: nothing
    tells it.   others: folders of it that are not told apart, summed: folders, objects, bytes.
    """

    prefix: bytes
    objects: int = 0
    bytes: int = 0
    newest: int = 0
    inner: list[FolderSum] = field(default_factory=list)
    others: list[int] = field(default_factory=lambda: [0, 0, 0])

    def add(self, size: int, modified: int) -> None:
        self.objects += 1
        self.bytes += size
        self.newest = max(self.newest, modified)

    def thin_out(self, most: int) -> None:
        """Only the largest of its folders stay apart."""
        self.inner.sort(key=attrgetter("bytes", "objects"), reverse=True)
        for small in self.inner[most:]:
            self.others[0] += 1
            self.others[1] += small.objects
            self.others[2] += small.bytes
        del self.inner[most:]

    def told(self) -> JsonObject:
        return {
            **key_fields(self.prefix),
            "objects": self.objects,
            "bytes": self.bytes,
            "newest_ns": self.newest,
            "others": self.others,
        }

    def all_told(self) -> Iterator[JsonObject]:
        yield self.told()
        for folder in self.inner:
            yield from folder.all_told()


class Inventory:
    """Fed with files in the order of their keys. now: ns, from which ages are told."""

    def __init__(self, now: int) -> None:
        self._now = now
        self._open = [FolderSum(b"")]
        spans = [name for name, _ in AGES]
        self._ages = {name: [0, 0] for name in (*spans, OLDER, UNKNOWN)}
        self._kinds: dict[str, list[int]] = {}
        self._largest: list[tuple[int, bytes, int]] = []

    def add(self, key: bytes, size: int, modified: int | None) -> None:
        """key: below the place.   modified: ns."""
        at = modified or 0
        *folders, name = key.split(b"/")
        self._enter(folders[: len(KEPT)])
        for folder in self._open:
            folder.add(size, at)
        _count(self._ages[self._age(at)], size)
        self._count_kind(_kind_of(name), size)
        if len(self._largest) < MOST_LARGEST:
            heapq.heappush(self._largest, (size, key, at))
        elif size > self._largest[0][0]:
            heapq.heapreplace(self._largest, (size, key, at))

    def told(self) -> JsonObject:
        """All of it, as JSON. What is open is closed."""
        self._enter([])
        place = self._open[0]
        place.thin_out(KEPT[0])
        _thin_deepest(place)
        return {
            "folders": list(place.all_told()),
            "ages": [_sum(name, count) for name, count in self._ages.items() if count[0]],
            "kinds": [_sum(name, count) for name, count in self._kinds_by_size()],
            "largest": [
                {**key_fields(key), "bytes": size, "modified_ns": at}
                for size, key, at in sorted(self._largest, reverse=True)
            ],
        }

    def _enter(self, folders: list[bytes]) -> None:
        """Folders that this key isn't in are over: keys come in their order."""
        wanted = []
        prefix = b""
        for folder in folders:
            prefix += folder + b"/"
            wanted.append(prefix)
        is_open = [folder.prefix for folder in self._open[1:]]
        shared = 0
        for one, other in zip(wanted, is_open, strict=False):
            if one != other:
                break
            shared += 1
        while len(self._open) > shared + 1:
            self._close()
        self._open += [FolderSum(prefix) for prefix in wanted[shared:]]

    def _close(self) -> None:
        over = self._open.pop()
        depth = len(self._open)
        if depth < len(KEPT):
            over.thin_out(KEPT[depth])
        outer = self._open[-1]
        outer.inner.append(over)
        if len(outer.inner) > 2 * KEPT[depth - 1]:
            outer.thin_out(KEPT[depth - 1])

    def _age(self, at: int) -> str:
        """The first of the spans that it is young enough for; unknown where the store tells no
        time.
        """
        if not at:
            return UNKNOWN
        days = (self._now - at) / DAY_NS
        return next((name for name, most in AGES if days <= most), OLDER)

    def _count_kind(self, kind: str, size: int) -> None:
        if kind not in self._kinds and len(self._kinds) >= 2 * MOST_KINDS:
            kind = OTHER_KINDS
        _count(self._kinds.setdefault(kind, [0, 0]), size)

    def _kinds_by_size(self) -> list[tuple[str, list[int]]]:
        """The largest first; more than MOST_KINDS are told together."""
        by_size = sorted(self._kinds.items(), key=lambda kind: kind[1][1], reverse=True)
        shown = by_size[:MOST_KINDS]
        objects = size = 0
        for _, (count, length) in by_size[MOST_KINDS:]:
            objects += count
            size += length
        if objects:
            shown.append((OTHER_KINDS, [objects, size]))
        return shown


def _thin_deepest(place: FolderSum) -> None:
    """Where there are too many folders in all, the smallest of the deepest are told together."""
    second = [inner for outer in place.inner for inner in outer.inner]
    sizes = [folder.bytes for outer in second for folder in outer.inner]
    sizes.sort(reverse=True)
    told = len(place.inner) + len(second)
    room = max(MOST_TOLD - told, 0)
    if len(sizes) <= room:
        return
    for outer in second:
        larger = [folder for folder in outer.inner if folder.bytes > sizes[room]]
        outer.thin_out(len(larger))


def _count(count: list[int], size: int) -> None:
    count[0] += 1
    count[1] += size


def _sum(name: str, count: list[int]) -> JsonObject:
    return {"name": name, "objects": count[0], "bytes": count[1]}


def _kind_of(name: bytes) -> str:
    """A file's ending, in small letters."""
    stem, dot, ending = name.rpartition(b".")
    if not (stem and dot) or not 0 < len(ending) <= LONGEST_KIND or not ending.isalnum():
        return NO_KIND
    return ending.decode("ascii").lower()
