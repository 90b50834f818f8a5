"""Listings that can be trusted, and the merge of two of them with the ledger.

Nobody is asked to trust a listing blindly: pages must ascend strictly by the bytes of the key, across pages too.
A breach means that the listing is incomplete, and after an incomplete listing nothing may be removed.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from operator import itemgetter, lt
from typing import Any

from pinecart.core.entries import Entry, Page, Row, Stored
from pinecart.core.errors import Incomplete
from pinecart.core.places import show

SIDES = 3  # source listing, far listing, ledger
AT_ONCE = 250  # keys that are looked at together where all three sides have them

Found = tuple[bytes, Any, Any, Any]
_key = itemgetter(0)


def _keys(page: Sequence[Any]) -> Sequence[bytes]:
    return page.columns.key if isinstance(page, Page) else list(map(_key, page))


class Ascending:
    """Checks the pages of one listing as they pass. Raises Incomplete on the first key out of order."""

    def __init__(self, whose: str) -> None:
        self.whose = whose
        self.last: bytes | None = None

    def check(self, page: Sequence[Any]) -> Sequence[Any]:
        keys = [*_keys(page)] if self.last is None else [self.last, *_keys(page)]
        if not all(map(lt, keys, keys[1:])):
            at = next(n for n in range(1, len(keys)) if keys[n] <= keys[n - 1])
            raise Incomplete(
                f"The listing of {self.whose} is out of order or repeats itself at {show(keys[at])!r} (after "
                f"{show(keys[at - 1])!r}). It can't be trusted to be whole; try again, and if it stays so, ask the store's operator.",
                code="listing.out-of-order",
            )
        if keys:
            self.last = keys[-1]
        return page


@dataclass(frozen=True)
class Together:
    """A stretch of keys which all three sides have: most of what there is, where little has changed."""

    sources: Sequence[Entry]
    theres: Sequence[Entry]
    rows: Sequence[Stored]

    def __iter__(self) -> Iterator[Found]:
        for source, there, row in zip(self.sources, self.theres, self.rows, strict=True):
            yield source.key, source, there, Row.read(row)


class Merge:
    """Merges source listing, far listing and ledger by key, page by page.

    Ask `lacking()` which side to feed next, `feed` it a page (None: that side has ended), then take `ready()`.
    Items of every side are tuples whose first field is the key. Each side holds one page at a time.
    """

    def __init__(self) -> None:
        self._pages: list[Sequence[Any]] = [()] * SIDES
        self._at = [0] * SIDES
        self._ended = [False] * SIDES

    def lacking(self) -> int | None:
        """The side that must be fed before more can be said; None when all have ended and nothing is left."""
        for i in range(SIDES):
            if self._at[i] == len(self._pages[i]) and not self._ended[i]:
                return i
        return None

    def feed(self, side: int, page: Sequence[Any] | None) -> None:
        if page is None:
            self._ended[side] = True
        else:
            self._pages[side] = [*self._pages[side][self._at[side] :], *page] if self._left(side) else page
            self._at[side] = 0

    def _left(self, side: int) -> int:
        return len(self._pages[side]) - self._at[side]

    def ready(self) -> Iterator[Together | list[Found]]:
        """Until a side must be fed: some (key, source, far, row), None where a side has nothing; or many together."""
        some: list[Found] = []
        while self.lacking() is None and any(map(self._left, range(SIDES))):
            together = self._together()
            if together is None:
                some += self._one_by_one()
                continue
            if some:
                yield some
                some = []
            yield together
        if some:
            yield some

    def _together(self) -> Together | None:
        count = min(AT_ONCE, *map(self._left, range(SIDES)))
        if not count:
            return None
        first, second, third = (p[at : at + count] for p, at in zip(self._pages, self._at, strict=True))
        if not _keys(first)[-1] == second[-1][0] == third[-1][0]:
            return None
        if not [*_keys(first)] == [*_keys(second)] == [*_keys(third)]:
            return None
        self._at = [at + count for at in self._at]
        return Together(first, second, third)

    def _one_by_one(self) -> Iterator[Found]:
        """Up to AT_ONCE keys of the side with the most, in order."""
        self._pages = [list(page) if isinstance(page, Page) else page for page in self._pages]
        (a, b, c), (i, j, k) = self._pages, self._at
        n_a, n_b, n_c = len(a), len(b), len(c)
        ended_a, ended_b, ended_c = self._ended
        for _ in range(AT_ONCE):
            if not ((i < n_a or ended_a) and (j < n_b or ended_b) and (k < n_c or ended_c)):
                break
            heads = [page[at][0] for page, at, n in ((a, i, n_a), (b, j, n_b), (c, k, n_c)) if at < n]
            if not heads:
                break
            key = min(heads)
            source = there = row = None
            if i < n_a and a[i][0] == key:
                source, i = a[i], i + 1
            if j < n_b and b[j][0] == key:
                there, j = b[j], j + 1
            if k < n_c and c[k][0] == key:
                row, k = Row.read(c[k]), k + 1
            yield key, source, there, row
        self._at = [i, j, k]
