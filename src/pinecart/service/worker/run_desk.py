"""What the engine reads and writes of one run, over the database and the run's log."""

from __future__ import annotations

import json
import time
from base64 import b64decode, b64encode
from collections.abc import AsyncIterator, Iterable
from typing import Any, NamedTuple

from pinecart.core.columns import Rows
from pinecart.core.definition_reading import read_definition
from pinecart.core.entries import Aside, Entry, Row, fingerprint
from pinecart.core.places import parse_location
from pinecart.core.ports import Store, Uploads
from pinecart.core.selection import Selection
from pinecart.json_object import JsonObject
from pinecart.runner.concurrency import Pacer
from pinecart.runner.leg_audit import Checkpoint
from pinecart.runner.records import Record
from pinecart.runner.run import Order
from pinecart.runner.side import identity_of
from pinecart.runner.undo import Done
from pinecart.service.aside import selectors as aside
from pinecart.service.config.settings import STATE
from pinecart.service.config.state import write_whole
from pinecart.service.ledger import selectors as ledger
from pinecart.service.ledger.services import open_scope
from pinecart.service.runs import selectors
from pinecart.service.runs.selectors import records
from pinecart.service.runs.services import run_records
from pinecart.service.stores.selectors import rests
from pinecart.service.stores.services.registering import remember_learned, remember_rest
from pinecart.service.worker.crew import HelperCrew
from pinecart.service.worker.database_threads import reads, writes
from pinecart.service.worker.intents import Intents
from pinecart.service.worker.run_log import RunLog

SHARE_S = 1.0  # so often it is looked how many runs share a store


class Awaited(NamedTuple):
    """One leg of a job that has to take a file before we clear it. scope 0: it never ran."""

    store: str
    prefix: bytes
    selection: Selection
    scope: int

    def of_theirs(
        self, wanted: Iterable[tuple[bytes, Entry]], now_ns: int
    ) -> dict[bytes, tuple[bytes, str]]:
        """Which of these files they take: their name → (the key, its fingerprint)."""
        theirs = {}
        for key, entry in wanted:
            if not key.startswith(self.prefix):
                continue
            name = key.removeprefix(self.prefix)
            if self.selection.why_not(name, entry, now_ns) is None:
                theirs[name] = (key, fingerprint(entry))
        return theirs


class RunRecords:
    """What the engine reads and writes (runner.run.Records), over the database and
    the run's log.
    """

    def __init__(self, order: JsonObject, log: RunLog) -> None:
        self._run = order["run"]
        self._epoch = order["epoch"]
        self._kind = order["kind"]
        self._log = log
        self._stop = self._at_once = False
        self._of = order["of"]
        self._exactly = int(order.get("part", {}).get("exactly") or 0)
        self._pause = False
        self.pacer = Pacer()
        self._stores = {
            (n, side): parse_location(leg[word]).store
            for n, leg in enumerate(order["definition"]["legs"])
            for side, word in run_records.SIDES
        }
        self.scopes: dict[int, int] = {}
        self._past: dict[int, list[int]] = {}  # leg → every ledger it ever had between these places
        self._intents = Intents(STATE.run_file(self._run, "intents"))
        self._checked = STATE.run_file(self._run, "checked")
        self._settled: dict[
            int, tuple[str, str]
        ] = {}  # leg → the selection carried out before, and this one's
        self._awaited: list[Awaited] = []
        self._awaits_unknown: list[str] = order["awaited_unknown"]
        self._shared_at = -SHARE_S
        self.opened: dict[str, Store] = {}
        self.crew: HelperCrew | None = None
        self._specs = order.get("stores", {})
        self._learned = {name: spec.get("abilities") or {} for name, spec in self._specs.items()}

    def open_scopes(self, job: str, order: Order) -> None:
        legs = order.definition.legs
        for number, leg in enumerate(legs):
            identity = identity_of(leg, order.stores)
            scope, before = open_scope(job, identity)
            self.scopes[number] = scope
            self._past[number] = ledger.scopes_of_past(job, identity)
            self._settled[number] = (before, leg.digest)

    def await_others(self, given: list[JsonObject], stores: dict[str, Store]) -> None:
        """Jobs that have to have taken a file before this run may clear it away at the source."""
        for mapping in given:
            other = read_definition(mapping)
            for leg in other.legs:
                source = leg.source
                identity = identity_of(leg, stores)
                scope = ledger.scope_known(other.job, identity)
                awaited = Awaited(source.store, source.path, leg.selection, scope)
                self._awaited.append(awaited)

    async def lacking(self, leg: int, wanted: list[tuple[bytes, Entry]]) -> set[bytes]:
        """Those that another job, which is waited for, takes too and hasn't taken as they are now:
        they stay at the source.
        """
        if self._awaits_unknown:
            self.log(
                "awaits",
                f"Nothing is cleared: there is no job {', '.join(self._awaits_unknown)} any more.",
            )
            return {key for key, _ in wanted}
        found = set[bytes]()
        now_ns = time.time_ns()
        here = self._stores[leg, "source"]
        for other in self._awaited:
            if other.store != here:
                continue
            theirs = other.of_theirs(wanted, now_ns)
            taken = await reads(ledger.taken_of, other.scope, list(theirs))
            for name, (key, mark) in theirs.items():
                if taken.get(name) != mark:
                    found.add(key)
        return found

    async def pages(self, leg: int) -> AsyncIterator[Rows]:
        """What the ledger remembers of the leg, in the order of keys, some pages at a time."""
        after = b""
        while pages := await reads(ledger.ledger_pages, self.scopes[leg], after):
            for page in pages:
                yield page
            after = pages[-1].columns.key[-1]

    async def cuts(self, leg: int) -> list[bytes]:
        return await reads(ledger.ledger_cuts, self.scopes[leg])

    async def drop(self, leg: int, keys: list[bytes]) -> None:
        await writes(run_records.drop_ledger_rows, self._run, self._epoch, self.scopes[leg], keys)

    def fresh(self, leg: int) -> bool:
        before, now = self._settled[leg]
        return before != now

    async def settled(self, leg: int) -> None:
        if self.fresh(leg):
            await writes(
                run_records.settle_scope,
                self._run,
                self._epoch,
                self.scopes[leg],
                self._settled[leg][1],
            )

    async def overtaken(self, leg: int) -> AsyncIterator[list[tuple[bytes, int]]]:
        """Pages of what the preview planned and this run has no record of: keys with their
        sizes.
        """
        after = 0
        while True:
            preview = self._exactly
            page, after = await reads(records.overtaken_page, preview, self._run, leg, after)
            if not page:
                return
            yield page

    async def before(self, asides: list[Aside], rows: list[tuple[int, Row]]) -> None:
        if asides or rows:
            await writes(run_records.journal, self._run, self._epoch, self.scopes, asides, rows)

    def intends(self, leg: int, key: bytes, decision: str, reason: str) -> None:
        self._intents.write(leg, key, decision, reason)

    async def intended(self, leg: int) -> dict[bytes, tuple[str, str]]:
        found: dict[bytes, tuple[str, str]] = {}
        for some in self._intents.read(leg):
            keys = list(some)
            recorded = await reads(records.keys_recorded, self._run, leg, keys)
            for key, what in some.items():
                if key not in recorded:
                    found[key] = what
        return found

    async def meant(self, leg: int) -> list[Aside]:
        return await reads(aside.asides_meant, self._run, leg)

    async def done_by(self, leg: int) -> AsyncIterator[list[Done]]:
        after = 0
        scopes = self._past[leg]
        while True:
            page, after = await reads(records.done_by, self._of, scopes, leg, after)
            if not page:
                return
            yield page

    async def kept_by(self, leg: int) -> AsyncIterator[list[Aside]]:
        """What the run that is undone had set aside at this leg, page by page."""
        after = 0
        while (page := await reads(aside.asides_kept, self._of, leg, after))[0]:
            after = page[1]
            yield page[0]

    async def no_longer_aside(self, asides: list[Aside], *, back: bool) -> None:
        if asides:
            await writes(
                run_records.no_longer_aside, self._run, self._epoch, self._of, asides, back=back
            )

    async def save(self, batch: list[Record]) -> None:
        """Only a transfer's records become what the ledger remembers."""
        remember = self._kind == "transfer"
        await writes(
            run_records.save_batch, self._run, self._epoch, self.scopes, batch, remember=remember
        )

    async def tell(self, progress: JsonObject) -> None:
        await writes(run_records.tell_progress, self._run, self._epoch, progress)

    async def listen(self) -> None:
        wishes = await reads(selectors.wishes, self._run)
        self._pause = wishes.pause
        self.pacer.rate = wishes.rate
        self._stop = self._stop or wishes.stop or wishes.pause
        self._at_once = wishes.stop and wishes.at_once
        now = time.monotonic()
        if now - self._shared_at > SHARE_S:
            self._shared_at = now
            names = list(self.opened)
            shares = await reads(selectors.shares, names)
            for name, most in shares.items():
                self.opened[name].most_at_once = most
            await self._share_pauses()
            await self._share_what_was_learned()

    async def _share_pauses(self) -> None:
        """A store that asks one run to go slower asks all of them."""
        for name, store in self.opened.items():
            if store.rests_s > 0:
                await writes(remember_rest, name, store.rests_s)
        resting = await reads(rests, list(self.opened))
        if resting:
            for name, seconds in resting.items():
                self.opened[name].rest(seconds)
            if self.crew:
                self.crew.rest(resting)

    async def _share_what_was_learned(self) -> None:
        """What a store was found to do is kept with it, so that the next run needn't find it out
        again.
        """
        for name, store in self.opened.items():
            learned = store.learned()
            if learned != self._learned.get(name, {}):
                self._learned[name] = learned
                await writes(remember_learned, name, self._specs[name], learned)

    def forget_intents(self) -> None:
        """All that was done is on record now."""
        self._intents.close()
        self._checked.unlink(missing_ok=True)

    def reached(self, leg: int, at: Checkpoint) -> None:
        """How far an audit has come: a file beside the run's log, whole or not there."""
        told = {"leg": leg, "key": b64encode(at.key).decode(), "counted": at.counted}
        write_whole(self._checked, json.dumps(told))

    def reached_before(self, leg: int) -> Checkpoint | None:
        """How far an audit had come when its process ended; None: it begins at the leg's
        beginning.
        """
        try:
            told = json.loads(self._checked.read_text())
        except FileNotFoundError:
            return None
        if told["leg"] != leg:
            return None
        counted = [(why, objects, size) for why, objects, size in told["counted"]]
        return Checkpoint(b64decode(told["key"]), counted)

    def pausing(self) -> bool:
        return self._pause

    def uploads(self, leg: int, side: str) -> Uploads | None:
        return Journal(self._run, self._epoch, self._stores[leg, side])

    async def uploads_left(self) -> list[tuple[str, bytes, str]]:
        left = await reads(aside.uploads_left, self._run)
        return left + (await reads(aside.uploads_left, self._of) if self._kind == "expiry" else [])

    async def upload_cleared(self, store: str, key: bytes) -> None:
        of = self._of if self._kind == "expiry" else self._run
        await writes(run_records.upload_cleared, self._run, self._epoch, of, store, key)

    def stops_at_once(self) -> bool:
        return self._at_once

    def stopping(self) -> bool:
        return self._stop

    def log(self, action: str, message: str, **fields: Any) -> None:
        self._log.write(action, message, fields)


class Journal:
    """core.ports.Uploads over the database: every word is committed before the next request."""

    def __init__(self, run: int, epoch: int, store: str) -> None:
        self._run = run
        self._epoch = epoch
        self._store = store

    async def begun(self, key: bytes, token: str, at: str) -> str:
        return await writes(
            run_records.upload_begun, self._run, self._epoch, self._store, key, token, at
        )

    async def named(self, key: bytes, upload: str) -> None:
        await writes(run_records.upload_named, self._run, self._epoch, self._store, key, upload)

    async def over(self, key: bytes) -> None:
        await writes(run_records.upload_over, self._run, self._epoch, self._store, key)
