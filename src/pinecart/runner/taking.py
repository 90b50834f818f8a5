"""Takes away what was decided:

each object is confirmed just before, journalled, and only then removed or cleared.
"""

from __future__ import annotations

import itertools
import time
from functools import partial
from typing import IO

from pinecart.core.decide import Decision, Intent, Reason
from pinecart.core.entries import Aside, Likeness, Row, fingerprint, likeness
from pinecart.core.errors import Corrupt, Halting, StoreError, Taken
from pinecart.core.lifecycle import Phase
from pinecart.core.places import show
from pinecart.runner.book import Book
from pinecart.runner.carry import Carrier
from pinecart.runner.items import Item, spilled
from pinecart.runner.leg_job import Job, Ledger
from pinecart.runner.look import content_crc
from pinecart.runner.pool import Pool
from pinecart.runner.removing import Away, Remover

AT_ONCE = 200  # removals confirmed, journalled and carried out together
PLAN_GOOD_S = 600.0  # older than this, nothing more is removed by a plan
PROOFS = ("server-verified", "read-back", "server-copy")


class Taking:
    def __init__(self, job: Job, ledger: Ledger, book: Book, carrier: Carrier) -> None:
        self._job, self._ledger, self._book = job, ledger, book
        self._removers = {
            side: Remover(job.run, job.leg, side, at, carrier, job.days, job.aside_in)
            for side, at in (("source", job.source), ("target", job.target))
        }

    @property
    def at_target(self) -> Remover:
        return self._removers["target"]

    async def all_of(self, pool: Pool, spill: IO[str], wanted: Decision, planned_at: float) -> bool:
        """Remove or clear what was planned, a few hundred at a time.

        False: the plan is too old to go on by.
        """
        items = spilled(spill, wanted)
        while batch := list(itertools.islice(items, AT_ONCE)):
            if self._job.stopping():
                return True
            if time.monotonic() - planned_at > PLAN_GOOD_S:
                return False
            self._book.phase(Phase.REMOVING)
            await self._book.flush()  # every copy that justifies a clearing is on record before it
            if wanted is Decision.CLEAR:
                batch = await self._without_awaited(batch)
            ready: list[tuple[Item, Aside | None, Row | None]] = []
            for item in batch:
                await pool.add(partial(self._confirm, item, ready))
            await pool.drain()
            asides, rows = (
                [a for _, a, _ in ready if a],
                [(self._job.leg, r) for _, _, r in ready if r],
            )
            await self._ledger.before(asides, rows)
            for item, aside, row in ready:
                await pool.add(partial(self._taken, item, aside, row))
            await pool.drain()
        return True

    async def _without_awaited(self, batch: list[Item]) -> list[Item]:
        """What another job has to take first stays at the source for now."""
        prefix = self._job.source.prefix
        whole = {prefix + i.entry.source_key: i for i in batch if i.entry}
        lacking = await self._ledger.lacking(
            self._job.leg, [(key, i.entry) for key, i in whole.items() if i.entry]
        )
        for key in lacking:
            self._book.left(whole[key], Reason.AWAITED)
        return [i for key, i in whole.items() if key not in lacking]

    async def _confirm(
        self, item: Item, ready: list[tuple[Item, Aside | None, Row | None]]
    ) -> None:
        """Whether this one object may go now. What can't be confirmed stays, and is listed."""
        job, clear = self._job, item.verdict.decision is Decision.CLEAR
        try:
            if clear:
                row = await self._proven(item)
                assert item.entry is not None
                whole = job.source.prefix + item.entry.source_key
                if row is not None:
                    ready.append(
                        (
                            item,
                            await self._removers["source"].aside_of(item.key, whole, item.entry),
                            row,
                        )
                    )
                return
            assert item.far is not None
            if job.rules.intent is not Intent.REMOVE and not await job.source.store.is_absent(
                job.source.prefix + item.key
            ):
                raise Taken(
                    f"{show(item.key)} is at the source again. It was not removed.",
                    code="source-back",
                )
            aside = await self._removers["target"].aside_of(
                item.key, job.target.prefix + item.key, item.far
            )
            ready.append((item, aside, None))
        except Halting:
            raise
        except StoreError as exc:
            await self._book.failed(item, exc, 0.0)

    async def _proven(self, item: Item) -> Row | None:
        """The ledger row of a copy whose source may be cleared.

        None: not yet. Raises StoreError where it isn't proven.
        """
        assert item.entry is not None and item.far is not None
        entry, store, whole = item.entry, self._job.target.store, self._job.target.prefix + item.key
        able = await self._job.source.store.abilities(self._job.source.prefix)
        if (
            able.at_hand
            and time.time_ns() - max(entry.modified_ns or 0, entry.ctime_ns)
            < self._job.settle_s * 1e9
        ):
            self._book.left(item, Reason.TOO_YOUNG)
            return None
        stat = await store.stat(whole)
        if likeness(stat.entry, fingerprint(item.far)) is not Likeness.SAME:
            raise Taken(f"{show(item.key)} is not as it was placed. Its source was not cleared.")
        crc, proof = item.crc, item.proof
        if not crc:
            crc = await content_crc(
                self._job.source.store, self._job.source.prefix + entry.source_key, entry
            )
        if (
            proof not in PROOFS
            and stat.crc != crc
            and await content_crc(store, whole, stat.entry) != crc
        ):
            raise Corrupt(
                f"{show(item.key)}: what lies there is not what was sent. Its source was not "
                "cleared."
            )
        return Row(
            item.key,
            fingerprint(entry),
            fingerprint(stat.entry),
            crc,
            cleared=True,
            run=self._job.run,
        )

    async def _taken(self, item: Item, aside: Aside | None, row: Row | None) -> None:
        started = time.monotonic()
        self._book.progress.start(item.key, 0)
        try:
            taken = await self._take(item, aside)
        except Halting:
            raise
        except StoreError as exc:
            self._book.progress.end(item.key, 0)
            await self._book.failed(item, exc, time.monotonic() - started)
            return
        self._book.went_well()
        self._book.progress.end(item.key, 0)
        record = self._book.record(
            item,
            seconds=time.monotonic() - started,
            guarded=taken.guarded,
            row=row,
            kept=taken.kept,
            tries=1,
        )
        await self._book.add(record)
        if item.verdict.decision is Decision.REMOVE:
            self._book.dropped.append(item.key)

    async def _take(self, item: Item, aside: Aside | None) -> Away:
        if item.verdict.decision is Decision.REMOVE:
            assert item.far is not None
            return await self._removers["target"].take_away(
                self._job.target.prefix + item.key, item.far, aside
            )
        assert item.entry is not None
        whole = self._job.source.prefix + item.entry.source_key
        return await self._removers["source"].take_away(whole, item.entry, aside)
