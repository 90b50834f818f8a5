"""What a leg of a run is told, and what it remembers."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable
from typing import NamedTuple, Protocol

from pinecart.core.columns import Rows
from pinecart.core.decide import Rules
from pinecart.core.entries import SETTLE_S, Aside, Entry, Row
from pinecart.core.guards import Limits
from pinecart.core.keeping import Keep
from pinecart.core.part import ALL, Part
from pinecart.core.ports import Shares, Uploads
from pinecart.core.renaming import Renaming
from pinecart.core.retry import Retry
from pinecart.core.selection import Selection
from pinecart.runner.batch_helper import Crew, Sharing
from pinecart.runner.concurrency import Pacer
from pinecart.runner.object_transfer import TransferOptions
from pinecart.runner.promise import Promise
from pinecart.runner.read_once import ReadOnce
from pinecart.runner.scratch import Scratch
from pinecart.runner.set_aside import AsidePolicy
from pinecart.runner.side import Side


class RemovalPace(NamedTuple):
    """at_once: removals confirmed, journalled and carried out together.   plan_good_s: by an older
    plan nothing more is removed.
    """

    at_once: int = 200
    plan_good_s: float = 600.0


class LegContext(NamedTuple):
    """What a leg needs to know.

    log: (action, message, fields).   stopping: true once a stop was asked for.
    only_plan: a preview.
    stamp: the run's date and time, for names that keep both.
    one: only this file of the source, and its name there.
    days: what is removed or replaced is set aside for so long.
    fresh: this leg never ran like this.
    released: digests of lists that a person said yes to.
    settle_s: so long a file must be untouched before it is cleared from its source folder.
    folders: "with-files", "empty-too" or "only".
    crew: other processes that help to carry; None: there are none.
    part: which of its files are looked at.
    younger_than: "leg" or "folder": only what is younger than the youngest there; empty: whatever.
    versions: so many of each object's, the present one among them; 1: no older ones.
    changing_tries: so often a file that changes while it is read is tried.
    read_once: what other legs of this source have read; None: there are none.
    promise: what a preview would do, and nothing else is done; None: whatever is to be done.
    """

    run: int
    number: int
    source: Side
    target: Side
    selection: Selection
    rules: Rules
    only_plan: bool
    concurrency: int
    retry: Retry
    stopping: Callable[[], bool]
    log: Callable[..., None]
    scratch: Scratch
    stamp: str
    one: tuple[str, str] | None = None
    renaming: Renaming | None = None
    days: int = 0
    limits: Limits = Limits()
    fresh: bool = False
    released: frozenset[str] = frozenset()
    settle_s: float = SETTLE_S
    keep: Keep = Keep()
    folders: str = "with-files"
    uploads: tuple[Uploads | None, Uploads | None] = (None, None)
    pacer: Pacer | None = None
    through_us: bool = False
    aside_in: bytes = b""
    crew: Crew | None = None
    pace: RemovalPace = RemovalPace()
    part: Part = ALL
    promise: Promise | None = None
    younger_than: str = ""
    changing_tries: int = 3
    versions: int = 1
    read_once: ReadOnce | None = None

    @property
    def folders_taken(self) -> str:
        """Which folders of the source are entries of their own: "", "empty", "all" or "only"."""
        if self.folders == "with-files" and (self.keep.permissions or self.keep.attributes):
            return "all"
        return {"with-files": "", "empty-too": "empty", "only": "only"}[self.folders]

    @property
    def transfer_options(self) -> TransferOptions:
        return TransferOptions(
            self.run,
            self.number,
            self.source,
            self.target,
            self.retry,
            self.keep,
            self.uploads,
            self.pacer,
            self.through_us,
            self.changing_tries,
            self.read_once,
        )

    @property
    def aside_policy(self) -> AsidePolicy:
        return AsidePolicy(self.run, self.number, self.days, self.aside_in)

    @property
    def shares(self) -> Callable[[bytes, Entry], Shares] | None:
        """Who sends parts of a large object as well; None: nobody."""
        if self.crew:
            return self._shares_of
        return None

    def _shares_of(self, key: bytes, entry: Entry) -> Shares:
        assert self.crew
        return Sharing(self.crew, self.number, key, entry, self.works_alone)

    def works_alone(self) -> bool:
        """What is paced, or has a ceiling, stays with the run's own process."""
        paced = self.pacer is not None and self.pacer.rate is not None
        return paced or any(side.store.most_at_once for side in (self.source, self.target))

    def most_at_once(self) -> int:
        """As many as both stores bear, and this run may."""
        return min(
            self.concurrency,
            *(s.store.most_at_once or self.concurrency for s in (self.source, self.target)),
        )


class Ledger(Protocol):
    def pages(self, leg: int) -> AsyncIterator[Rows]:
        """Rows in the order of their keys, some at a time."""
        ...

    async def cuts(self, leg: int) -> list[bytes]:
        """Every thousandth of the keys that it remembers, in order."""
        ...

    async def drop(self, leg: int, keys: list[bytes]) -> None: ...
    async def before(self, asides: list[Aside], rows: list[tuple[int, Row]]) -> None:
        """Commit what is about to be set aside, and what the ledger shall remember, before anything
        is destroyed.
        """
        ...

    async def lacking(self, leg: int, wanted: list[tuple[bytes, Entry]]) -> set[bytes]:
        """Of these source objects (whole keys) those that another job, which this one waits for,
        hasn't taken yet.
        """
        ...

    def intends(self, leg: int, key: bytes, decision: str, reason: str) -> None:
        """Journal that this object is about to be written there: at once, so that it outlives this
        process.
        """
        ...

    async def intended(self, leg: int) -> dict[bytes, tuple[str, str]]:
        """What this run journalled so before, and has no record of: key → decision and reason."""
        ...

    async def settled(self, leg: int) -> None:
        """This leg came to its end with these places and rules: it is no longer fresh."""
        ...

    def overtaken(self, leg: int) -> AsyncIterator[list[tuple[bytes, int]]]:
        """What the run's preview would have done and the run hasn't: keys and sizes."""
        ...

    async def meant(self, leg: int) -> list[Aside]:
        """What this run journalled before, without a word since on whether it was done."""
        ...
