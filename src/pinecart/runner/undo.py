"""Takes a run back, as far as its places still are as it left them; and clears away what was kept
past its days.

What it copied is removed (set aside), what it replaced, removed or cleared is brought back from
where it was set aside. A key that somebody changed since is left, and listed.
"""

from __future__ import annotations

from collections.abc import AsyncIterator
from functools import partial
from typing import Any, NamedTuple, Protocol

from pinecart.core.decide import Decision, Reason
from pinecart.core.entries import Aside, Entry, Likeness, Row, likeness, size_of
from pinecart.core.errors import Halting, Missing, StoreError, Taken
from pinecart.core.lifecycle import Phase
from pinecart.core.places import original_key, show
from pinecart.core.ports import Folders, Versions
from pinecart.core.totals import CARRIES
from pinecart.runner.concurrency import ConcurrencyController
from pinecart.runner.leg_context import LegContext
from pinecart.runner.object_transfer import ObjectTransfer, TransferOptions
from pinecart.runner.pool import Pool
from pinecart.runner.progress import Progress
from pinecart.runner.records import Record, Recorder
from pinecart.runner.set_aside import SideRemover
from pinecart.runner.side import Side

REASON = Reason.UNDONE


class Done(NamedTuple):
    """What a run did to one object. there: fingerprint of what it left there; empty if a later run
    wrote over it.

    source, target: what it set aside at either side, and is still kept.
    """

    key: bytes
    decision: str
    size: int
    there: str
    cleared: bool = False
    source: Aside | None = None
    target: Aside | None = None


class Past(Protocol):
    """What an undoing run reads and writes besides a run's records."""

    def done_by(self, leg: int) -> AsyncIterator[list[Done]]: ...
    def kept_by(self, leg: int) -> AsyncIterator[list[Aside]]: ...
    async def before(self, asides: list[Aside], rows: list[tuple[int, Row]]) -> None: ...
    async def no_longer_aside(self, asides: list[Aside], *, back: bool) -> None: ...
    async def drop(self, leg: int, keys: list[bytes]) -> None: ...


class _Step(NamedTuple):
    """What undoing one key takes.

    away: what lies at the target now and must go.   back: what comes back, at its side.
    """

    done: Done
    away: Entry | None
    back: tuple[Aside, ...]
    problem: str = ""


class Undo:
    """Undoes what one leg of a run did."""

    def __init__(self, leg: LegContext, past: Past, recorder: Recorder, progress: Progress) -> None:
        self._leg = leg
        self._past = past
        self._recorder = recorder
        self._progress = progress
        options = TransferOptions(leg.run, leg.number, leg.source, leg.target, leg.retry, leg.keep)
        transfer = ObjectTransfer(options)
        self._at = {"source": leg.source, "target": leg.target}
        self._take = {
            name: SideRemover(name, at, transfer, leg.aside_policy) for name, at in self._at.items()
        }
        self.acted = 0

    async def go(self) -> None:
        """Raises StoreError when a place can't be worked on at all."""
        leg = self._leg
        for side in self._at.values():
            await side.store.check_place(side.prefix)
        self._progress.enter(Phase.REMOVING)
        async with Pool(ConcurrencyController(leg.most_at_once)) as pool:
            async for page in self._past.done_by(leg.number):
                if leg.stopping():
                    return
                self._progress.listed += len(page)
                steps: list[_Step] = []
                for done in page:
                    await pool.add(partial(self._plan, done, steps))
                await pool.drain()
                await self._recorder.flush()
                if leg.only_plan:
                    continue
                asides = dict[bytes, Aside | None]()
                for step in steps:
                    await pool.add(partial(self._journalled, step, asides))
                await pool.drain()
                await self._past.before([a for a in asides.values() if a], [])
                for step in [s for s in steps if s.done.key in asides]:
                    await pool.add(partial(self._act, step, asides[step.done.key]))
                await pool.drain()
                await self._recorder.flush()
                await self._past.drop(leg.number, [s.done.key for s in steps])
        self._progress.listing_complete = True

    async def _plan(self, done: Done, steps: list[_Step]) -> None:
        """What can't be looked at isn't undone, and is told. A step that has nothing to do any more
        is done already.
        """
        try:
            step = await self._step(done)
        except Halting:
            raise
        except StoreError as exc:
            step = _Step(done, None, (), exc.message)
        if step.problem:
            self._progress.problems += 1
            await self._write(step, Decision.REFUSE, error="not-undone", message=step.problem)
        elif step.away or step.back:
            self._progress.planned_objects += 1
            steps.append(step)
            if self._leg.only_plan:
                await self._write(step, _decision(step), done=False)

    async def _step(self, done: Done) -> _Step:
        """What it takes, from what lies there now."""
        away = None
        back = tuple(a for a in (done.source, done.target) if a)
        if done.cleared and done.source is None:
            return _Step(
                done,
                None,
                (),
                "What was cleared at the source was not set aside: the copy is all there is.",
            )
        now = await self._now(done.key)
        if (
            done.target
            and done.target.version
            and now
            and likeness(now, done.target.was) is Likeness.SAME
        ):
            return _Step(done, None, ())  # brought back already, before this run was interrupted
        if done.decision in CARRIES:
            if now is not None and (
                not done.there or likeness(now, done.there) is not Likeness.SAME
            ):
                if not (
                    done.decision == "replace"
                    and done.target
                    and not await self._is_kept(done.target)
                ):
                    return _Step(
                        done, None, (), "Something else lies there since. It was left alone."
                    )
                return _Step(
                    done, None, ()
                )  # brought back already, before this run was interrupted
            away = now
            if done.decision == "replace" and done.target is None:
                return _Step(
                    done,
                    None,
                    (),
                    "What was replaced was not set aside: there is nothing to bring back.",
                )
        elif done.decision == "remove" and done.key.endswith(b"/") and not done.size:
            return _Step(done, None, ())  # a folder: it comes back with its files
        elif done.decision == "remove" and (
            done.target is None or (now is not None and await self._is_kept(done.target))
        ):
            if done.target is None:
                why = "was not set aside"
            else:
                why = "has its name taken by something else now"
            return _Step(done, None, (), f"What was removed {why}. It was left as it is.")
        return _Step(done, away, back)

    async def _now(self, key: bytes) -> Entry | None:
        target = self._leg.target
        try:
            found = await target.store.stat(target.prefix + key)
        except Missing:
            return None
        return found.entry

    async def _is_kept(self, aside: Aside) -> bool:
        """Whether what would be brought back is still there: under the name that it was set aside
        at, or as a version.
        """
        store = self._at[aside.side].store
        if not aside.version:
            return not await store.is_absent(aside.at)
        if not isinstance(store, Versions):
            return False
        kept = await store.versions(aside.at)
        numbers = {version.version for version in kept}
        return aside.version in numbers

    async def _journalled(self, step: _Step, asides: dict[bytes, Aside | None]) -> None:
        """What is to be journalled before this step; a step that can't be is not taken."""
        whole = self._leg.target.prefix + step.done.key
        try:
            if step.away:
                away = await self._take["target"].aside_of(step.done.key, whole, step.away)
            else:
                away = None
        except Halting:
            raise
        except StoreError as exc:
            await self._failed(step, exc)
        else:
            asides[step.done.key] = away

    async def _failed(self, step: _Step, exc: StoreError) -> None:
        self._progress.problems += 1
        await self._write(step, Decision.REFUSE, error=exc.code, message=exc.message)

    async def _act(self, step: _Step, set_aside: Aside | None) -> None:
        """First what was cleared at the source comes back, then the copy goes, then what it
        replaced comes back.
        """
        if self._leg.stopping():
            return
        done = step.done
        kept = ""
        try:
            for aside in [a for a in step.back if a.side == "source"]:
                await self._bring_back(aside)
            if step.away is not None:
                whole = self._leg.target.prefix + done.key
                kept = (await self._take["target"].take_away(whole, step.away, set_aside)).kept
            for aside in [a for a in step.back if a.side == "target"]:
                await self._bring_back(aside)
        except Halting:
            raise
        except StoreError as exc:
            await self._failed(step, exc)
            return
        self.acted += 1
        self._progress.end(done.key, 0)
        await self._past.no_longer_aside(list(step.back), back=True)
        await self._write(step, _decision(step), kept=kept)

    async def _bring_back(self, aside: Aside) -> None:
        at = self._at[aside.side]
        whole = aside.at if aside.version else original_key(at.store.home(aside.at), aside.at)
        try:
            await self._take[aside.side].bring_back(aside, whole)
        except Missing:
            if (await at.store.stat(whole)).entry.size != aside.size:
                raise Taken(
                    f"{show(aside.key)}: what was set aside is gone.", code="not-kept"
                ) from None

    async def _write(
        self, step: _Step, decision: Decision, *, done: bool = True, **rest: Any
    ) -> None:
        """One record, without a condition at the store: what is undone was looked at just
        before.
        """
        fields = (self._leg.number, step.done.key, decision.value, REASON.value, step.done.size)
        await self._recorder.add(
            Record(*fields, done=done and not rest.get("error"), guarded=False, **rest)
        )


def _decision(step: _Step) -> Decision:
    if step.away and any(a.side == "target" for a in step.back):
        return Decision.REPLACE
    if step.away:
        return Decision.REMOVE
    return Decision.COPY


class AsideExpiry:
    """Deletes for good what a run set aside, now that its days are over."""

    def __init__(self, leg: LegContext, past: Past, recorder: Recorder, progress: Progress) -> None:
        self._leg = leg
        self._past = past
        self._recorder = recorder
        self._progress = progress
        self.acted = 0

    async def go(self) -> None:
        leg = self._leg
        sides: dict[str, Side] = {"source": leg.source, "target": leg.target}
        self._progress.enter(Phase.REMOVING)
        async with Pool(ConcurrencyController(leg.most_at_once)) as pool:
            async for page in self._past.kept_by(leg.number):
                if leg.stopping():
                    return
                self._progress.planned_objects += len(page)
                for aside in page:
                    await pool.add(partial(self._clear, aside, sides[aside.side]))
                await pool.drain()
                await self._recorder.flush()
        self._progress.listing_complete = True

    async def _clear(self, aside: Aside, side: Side) -> None:
        try:
            kept = (await side.store.stat(aside.at)).entry
            if aside.kept:
                same = likeness(kept, aside.kept) is not Likeness.DIFFERENT
            else:
                same = kept.size == size_of(aside.was)
            if not same:
                raise Taken(f"{show(aside.at)} is not what was set aside. It was left alone.")
            await side.store.remove(aside.at, kept)
            if isinstance(side.store, Folders):
                await side.store.tidy(side.store.home(aside.at), aside.at)
        except Missing:  # somebody was quicker; or what was journalled never came to be
            if not aside.kept:
                await self._past.no_longer_aside([aside], back=False)
                return
        except Halting:
            raise
        except StoreError as exc:
            self._progress.problems += 1
            await self._write(aside, error=exc.code, message=exc.message)
            return
        self.acted += 1
        self._progress.end(aside.key, 0)
        await self._past.no_longer_aside([aside], back=False)
        await self._write(aside)

    async def _write(self, aside: Aside, error: str = "", message: str = "") -> None:
        fields = (
            self._leg.number,
            aside.at,
            Decision.REMOVE.value,
            Reason.EXPIRED.value,
            aside.size,
        )
        await self._recorder.add(
            Record(*fields, done=not error, guarded=False, error=error, message=message)
        )
