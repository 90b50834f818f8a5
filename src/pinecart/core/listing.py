"""Listings that can be trusted, and the merge of two of them with the ledger.

Nobody is asked to trust a listing blindly: pages must ascend strictly by the bytes of the key,
across pages too. A breach means that the listing is incomplete, and after an incomplete listing
nothing may be removed.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import repeat
from operator import lt
from typing import Any, cast

from pinecart.core.columns import EntryPage, Rows, keys_of
from pinecart.core.entries import Entry
from pinecart.core.errors import Incomplete
from pinecart.core.places import show

SIDES = 3  # source listing, far listing, ledger
AT_ONCE = 500  # keys that are looked at together where all three sides have them

Found = tuple[bytes, Any, Any, Any]


class Ascending:
    """Checks the pages of one listing as they pass.

    Raises Incomplete on the first key out of order.
    """

    def __init__(self, whose: str) -> None:
        self.whose = whose
        self.last: bytes | None = None

    def check(self, page: Sequence[Any]) -> Sequence[Any]:
        keys = [*keys_of(page)] if self.last is None else [self.last, *keys_of(page)]
        if not all(map(lt, keys, keys[1:])):
            at = next(n for n in range(1, len(keys)) if keys[n] <= keys[n - 1])
            here = show(keys[at])
            before = show(keys[at - 1])
            raise Incomplete(
                f"The listing of {self.whose} is out of order or repeats itself at "
                f"{here!r} (after {before!r}). It can't be trusted to be whole; try again, and "
                "if it stays so, ask the store's operator.",
                code="listing.out-of-order",
            )
        if keys:
            self.last = keys[-1]
        return page


@dataclass(frozen=True)
class Together:
    """A stretch of keys which all three sides have: most of what there is, where little has
    changed.

    sources: empty where that side has ended; then the other two have them.
    """

    sources: Sequence[Entry]
    theres: Sequence[Entry]
    rows: Rows

    def __iter__(self) -> Iterator[Found]:
        return zip(
            keys_of(self.rows), self.sources or repeat(None), self.theres, self.rows, strict=False
        )


class Merge:
    """Merges source listing, far listing and ledger by key, page by page.

    Ask `lacking()` which side to feed next, `feed` it a page (None: that side has ended), then take
    `ready()`. Items of every side are tuples whose first field is the key. Each side holds one page
    at a time.
    """

    def __init__(self) -> None:
        self._pages: list[Sequence[Any]] = [()] * SIDES
        self._at = [0] * SIDES
        self._ended = [False] * SIDES

    def lacking(self) -> int | None:
        """The side that must be fed before more can be said; None when all have ended and nothing
        is left.
        """
        for i in range(SIDES):
            if self._at[i] == len(self._pages[i]) and not self._ended[i]:
                return i
        return None

    def feed(self, side: int, page: Sequence[Any] | None) -> None:
        """The next page of one side; None: that side has ended, and what the others still have has
        no partner there.
        """
        if page is None:
            self._ended[side] = True
        else:
            self._pages[side] = page
            self._at[side] = 0

    def _left(self, side: int) -> int:
        return len(self._pages[side]) - self._at[side]

    def ready(self) -> Iterator[Together | list[Found]]:
        """Until a side must be fed: some (key, source, far, row), None where a side has nothing; or
        many together.
        """
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
        without_source = self._ended[0] and not self._left(0)
        count = min(AT_ONCE, *map(self._left, range(without_source, SIDES)))
        if not count or not isinstance(self._pages[-1], Rows):
            return None
        sources, theres, rows = (
            page[at : at + count] for page, at in zip(self._pages, self._at, strict=True)
        )
        theres = EntryPage.of(theres)  # its keys are asked for here, and the rest soon
        pages = (theres, rows) if without_source else (sources, theres, rows)
        first, *others = map(keys_of, pages)
        last = first[-1]
        for keys in others:
            if keys[-1] != last or list(keys) != list(first):
                return None
        for side in range(SIDES):
            if self._left(side):
                self._at[side] += count
        return Together(sources, theres, cast(Rows, rows))

    def _one_by_one(self) -> Iterator[Found]:
        """Up to AT_ONCE keys of the side with the most, in order."""
        a, b, c = (
            list(page[at : at + AT_ONCE]) for page, at in zip(self._pages, self._at, strict=True)
        )
        i = j = k = 0
        n_a = len(a)
        n_b = len(b)
        n_c = len(c)
        ended_a, ended_b, ended_c = self._ended
        for _ in range(AT_ONCE):
            if not ((i < n_a or ended_a) and (j < n_b or ended_b) and (k < n_c or ended_c)):
                break
            heads = [
                some[at][0] for some, at, n in ((a, i, n_a), (b, j, n_b), (c, k, n_c)) if at < n
            ]
            if not heads:
                break
            key = min(heads)
            source = there = row = None
            if i < n_a and a[i][0] == key:
                source = a[i]
                i += 1
            if j < n_b and b[j][0] == key:
                there = b[j]
                j += 1
            if k < n_c and c[k][0] == key:
                row = c[k]
                k += 1
            yield key, source, there, row
        self._at = [at + taken for at, taken in zip(self._at, (i, j, k), strict=True)]
