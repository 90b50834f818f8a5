"""Answers that come in pages, each of which tells where the next one begins."""

from __future__ import annotations

from collections.abc import AsyncIterator, Awaitable, Callable, Hashable
from typing import TypeVar

from pinecart.core.errors import Incomplete

Mark = TypeVar("Mark", bound=Hashable)
Page = TypeVar("Page")
Marks = list[tuple[str, str | bytes]]  # of a query


class PageTrail:
    """The marks that were followed: a server that leads back to one would be read for ever."""

    def __init__(self, listing: str) -> None:
        """listing: what is read, for people."""
        self._listing = listing
        self._followed = set[Hashable]()

    def follow(self, mark: Mark) -> Mark:
        """The same. Raises Incomplete where it was followed before."""
        if mark in self._followed:
            raise in_circles(self._listing)
        self._followed.add(mark)
        return mark


async def each_page(
    listing: str, ask: Callable[[Marks], Awaitable[tuple[Page, Marks]]]
) -> AsyncIterator[Page]:
    """ask: gives the page that begins at these marks, and the marks of the next one; none: the
    first page, and no further one. Raises Incomplete, and what `ask` does.
    """
    trail = PageTrail(listing)
    go_on: Marks = []
    while True:
        page, go_on = await ask(go_on)
        yield page
        if not go_on:
            return
        trail.follow(tuple(go_on))


def in_circles(listing: str) -> Incomplete:
    return Incomplete(f"{listing} goes round in circles. Ask the server's operator to look at it.")
