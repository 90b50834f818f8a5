"""Pages of listings and of the ledger kept as columns: most of what there is has not changed, and
is looked at by the hundred without ever becoming an Entry or a Row. Field by field that costs a
fraction of one by one.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from itertools import chain
from struct import error, pack
from typing import Any, ClassVar, NamedTuple, TypeVar, cast

from pinecart.core.entries import NOTHING_TOLD, OF_FILE, Entry, Row, Stored, fingerprint

T = TypeVar("T")


class EntryColumns(NamedTuple):
    """The fields of many entries."""

    key: Sequence[bytes]
    size: Sequence[int]
    modified_ns: Sequence[int | None]
    etag: Sequence[str]
    version: Sequence[str]
    ctime_ns: Sequence[int]
    inode: Sequence[int]
    fault: Sequence[str]
    kind: Sequence[str]
    was: Sequence[bytes]


class RowColumns(NamedTuple):
    """The fields of many ledger rows, as they are kept."""

    key: Sequence[bytes]
    source: Sequence[str]
    there: Sequence[str]
    state: Sequence[str]


class _InColumns(Sequence[T]):
    """Items that are made when they are asked for."""

    __slots__ = ("columns",)
    columns: Any
    _made: ClassVar[Any]  # makes an item of its fields

    def __init__(self, columns: Any) -> None:
        self.columns = columns

    def __len__(self) -> int:
        return len(self.columns[0])

    def __getitem__(self, at: Any) -> Any:
        """A number gives the one entry or row, made just now; a slice gives a page that shares no
        memory with this one.
        """
        fields = [column[at] for column in self.columns]
        if isinstance(at, slice):
            return type(self)(self.columns._make(fields))
        return self._made(fields)

    def __iter__(self) -> Iterator[T]:
        return map(self._made, zip(*self.columns, strict=True))


class EntryPage(_InColumns[Entry]):
    """Entries of a listing."""

    __slots__ = ()
    columns: EntryColumns
    _made = Entry._make

    @classmethod
    def of(cls, entries: Sequence[Entry]) -> EntryPage:
        if isinstance(entries, EntryPage):
            return entries
        return cls(EntryColumns(*zip(*entries, strict=True)))

    @classmethod
    def of_files(
        cls,
        key: Sequence[bytes],
        size: Sequence[int],
        modified_ns: Sequence[int],
        ctime_ns: Sequence[int],
        inode: Sequence[int],
    ) -> EntryPage:
        none = ("",) * len(key)
        return cls(
            EntryColumns(
                key, size, modified_ns, none, none, ctime_ns, inode, none, none, (b"",) * len(key)
            )
        )

    def all_as(self, remembered: Sequence[str]) -> bool:
        """Whether each has the fingerprint that is remembered of it."""
        columns = self.columns
        known = list(remembered)
        sizes = columns.size
        inodes = columns.inode
        etags = columns.etag
        if not any(inodes) and all(etags):
            marks = [f"{size}|{etag}" for size, etag in zip(sizes, etags, strict=True)]
            return marks == known
        if all(inodes) and set(map(len, known)) == {OF_FILE}:
            files = zip(sizes, columns.modified_ns, columns.ctime_ns, inodes, strict=True)
            numbers = chain.from_iterable(files)
            count = 4 * len(known)
            with suppress(error):  # a time before 1970 or after 2554: one by one
                packed = pack(f">{count}Q", *numbers)
                return packed.hex() == "".join(known)
        marks = list(map(fingerprint, self))
        if any(mark.endswith(NOTHING_TOLD) for mark in marks):
            return False
        return marks == known

    def are_plain(self) -> bool:
        """Whether none has a fault, and none is a folder of its own."""
        keys, sizes, _, _, _, _, _, faults, _, _ = self.columns
        if any(faults):
            return False
        if 0 not in sizes or b"/\0" not in b"\0".join([*keys, b""]):
            return True
        return not any(key.endswith(b"/") for key in keys)

    def source_keys(self) -> Sequence[bytes]:
        """Their keys at the source: those of before a renaming, for those that were renamed,
        and their own for all others.
        """
        keys = self.columns.key
        was = self.columns.was
        if any(was):
            return [w or k for w, k in zip(was, keys, strict=True)]
        return keys


class Rows(_InColumns[Row]):
    """Rows of the ledger."""

    __slots__ = ()
    columns: RowColumns
    _made = Row.read

    @classmethod
    def of(cls, stored: Sequence[Stored]) -> Rows:
        return cls(RowColumns(*zip(*stored, strict=True)) if stored else RowColumns((), (), (), ()))

    def all_settled(self, run: int) -> bool:
        """Whether none is racy, cleared, or of this very run."""
        states = "\n".join(["", *self.columns.state])
        return states.count("\n-") == len(self) and f"\n-{run}:" not in states


def keys_of(page: Sequence[Any]) -> Sequence[bytes]:
    """The keys of entries or rows, however they are kept."""
    if isinstance(page, _InColumns):
        return cast("Sequence[bytes]", page.columns.key)
    return [item[0] for item in page]
