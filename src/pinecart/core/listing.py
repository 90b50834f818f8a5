"""Listings that can be trusted, and the merge of two of them with the ledger.

Nobody is asked to trust a listing blindly: pages must ascend strictly by the bytes of the key, across pages too.
A breach means that the listing is incomplete, and after an incomplete listing nothing may be removed.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence
from typing import Any

from pinecart.core.errors import Incomplete
from pinecart.core.places import show

SIDES = 3  # source listing, far listing, ledger


class Ascending:
    """Checks the pages of one listing as they pass. Raises Incomplete on the first key out of order."""

    def __init__(self, whose: str) -> None:
        self.whose = whose
        self.last: bytes | None = None

    def check(self, page: Sequence[Any]) -> Sequence[Any]:
        last = self.last
        for item in page:
            key = item[0]
            if last is not None and key <= last:
                raise Incomplete(
                    f"The listing of {self.whose} is out of order or repeats itself at {show(key)!r} (after "
                    f"{show(last)!r}). It can't be trusted to be whole; try again, and if it stays so, ask the store's operator.",
                    code="listing.out-of-order",
                )
            last = key
        self.last = last
        return page


class Merge:
    """Merges source listing, far listing and ledger by key, page by page.

    Ask `lacking()` which side to feed next, `feed` it a page (None: that side has ended), then take `ready()`.
    Items of every side are tuples whose first field is the key. Each side holds one page at a time.
    """

    def __init__(self) -> None:
        self._pages: list[deque[Any]] = [deque() for _ in range(SIDES)]
        self._ended = [False] * SIDES

    def lacking(self) -> int | None:
        """The side that must be fed before more can be said; None when all have ended and nothing is left."""
        for i in range(SIDES):
            if not self._pages[i] and not self._ended[i]:
                return i
        return None

    def feed(self, side: int, page: Sequence[Any] | None) -> None:
        if page is None:
            self._ended[side] = True
        else:
            self._pages[side].extend(page)

    def ready(self) -> Iterator[tuple[bytes, Any, Any, Any]]:
        """Yield (key, source, far, row), None where a side has nothing, until a side must be fed."""
        a, b, c = self._pages
        ended_a, ended_b, ended_c = self._ended
        while (a or ended_a) and (b or ended_b) and (c or ended_c):
            if a and b and c and (key := a[0][0]) == b[0][0] == c[0][0]:  # nothing but this, where little has changed
                yield key, a.popleft(), b.popleft(), c.popleft()
                continue
            heads = [side[0][0] for side in (a, b, c) if side]
            if not heads:
                return
            key = min(heads)
            yield (
                key,
                a.popleft() if a and a[0][0] == key else None,
                b.popleft() if b and b[0][0] == key else None,
                c.popleft() if c and c[0][0] == key else None,
            )
