"""The engine for tests: whole runs over opened stores, with a ledger in memory."""

from __future__ import annotations

import asyncio
from collections import Counter

from pinecart.core.columns import Rows
from pinecart.core.definition_reading import leg_keys, read_definition
from pinecart.core.part import ALL
from pinecart.core.retry import Retry
from pinecart.drivers import open_store
from pinecart.runner.leg_context import RemovalPace
from pinecart.runner.records import BatchRules
from pinecart.runner.run import Order, carry_out
from pinecart.runner.scratch import Scratch
from pinecart.runner.undo import Done

QUICK = Retry(times=3, first_s=0.01)


class Journal:
    """core.ports.Uploads in a dict."""

    def __init__(self):
        self.rows, self.again = {}, set()  # begun more than once: one may be left at the store

    async def begun(self, key, token, at):
        known = self.rows.get(key)
        if known and known[0] == token and known[2]:
            return known[2]
        if known:
            self.again.add(key)
        self.rows[key] = (token, known[1] if known else at, "")
        return ""

    async def named(self, key, upload):
        self.rows[key] = (*self.rows[key][:2], upload)

    async def over(self, key):
        if key not in self.again:
            self.rows.pop(key, None)
        elif key in self.rows:
            self.rows[key] = (*self.rows[key][:2], "")

    def cleared(self, key):
        self.rows.pop(key, None)
        self.again.discard(key)


class Memory:
    """Records kept in a dict: what the service does with its database."""

    def __init__(self):
        self.rows, self.records, self.lines, self.stop = {}, {}, [], False
        self.asides, self.done, self.is_fresh = {}, {}, False
        self.intents = {}  # what was about to be written
        self.checkpoints = {}
        self.journal = Journal()  # of the target
        self.journals = {"posts": Journal(), "office": self.journal}
        self.dead = False  # as if the process were gone: nothing is written down any more

    def _must_live(self):
        if self.dead:
            raise asyncio.CancelledError

    async def pages(self, leg):
        rows = sorted(self.rows.items())
        for i in range(0, len(rows), 7):
            yield Rows.of([r.stored() for _, r in rows[i : i + 7]])

    async def cuts(self, leg):
        return sorted(self.rows)[999::1000]

    async def drop(self, leg, keys):
        for key in keys:
            self.rows.pop(key, None)

    async def save(self, batch):
        self._must_live()
        for record in batch:
            old = self.records.get(record.key)
            if (
                record.decision == "clear"
                and old
                and old.done
                and old.decision in ("copy", "replace")
            ):
                self.records[record.key] = old._replace(
                    message=record.message or "cleared", error=record.error
                )
            elif record.reason != "same" or record.error:
                self.records[record.key] = record
            if record.row:
                self.rows[record.key] = record.row
            for side in ("source", "target"):
                if (
                    record.kept
                    and (side, record.key) in self.asides
                    and not self.asides[side, record.key].kept
                ):
                    self.asides[side, record.key] = self.asides[side, record.key]._replace(
                        kept=record.kept
                    )

    async def before(self, asides, rows):
        self._must_live()
        self.asides |= {(a.side, a.key): a for a in asides}
        self.rows |= {row.key: row for _, row in rows}

    async def lacking(self, leg, wanted):
        return set()

    def intends(self, leg, key, decision, reason):
        self.intents[key] = (decision, reason)

    async def intended(self, leg):
        return {
            k: v
            for k, v in self.intents.items()
            if not (k in self.records and self.records[k].done)
        }

    async def overtaken(self, leg):
        return
        yield

    async def meant(self, leg):
        return [a for a in self.asides.values() if not a.kept]

    def fresh(self, leg):
        return self.is_fresh

    def reached(self, leg, at):
        self.checkpoints[leg] = at

    def reached_before(self, leg):
        return self.checkpoints.get(leg)

    async def settled(self, leg):
        self.is_fresh = False

    async def done_by(self, leg):
        yield [
            Done(
                k,
                r.decision,
                r.size,
                self.rows[k].there if k in self.rows else "",
                r.message == "cleared" or r.decision == "clear",
                self.past.get(("source", k)),
                self.past.get(("target", k)),
            )
            for k, r in sorted(self.done.items())
            if r.done and r.decision != "leave"
        ]

    async def kept_by(self, leg):
        yield list(self.past.values())

    async def no_longer_aside(self, asides, *, back):
        for aside in asides:
            del self.past[aside.side, aside.key]

    def undoing(self):
        """From here on, what was done so far is to be undone."""
        self.done, self.past, self.records, self.asides = self.records, self.asides, {}, {}

    async def tell(self, progress): ...
    async def listen(self): ...
    def pausing(self):
        return False

    def uploads(self, leg, side):
        return self.journals["posts" if side == "source" else "office"]

    async def uploads_left(self):
        return [
            (store, key, at)
            for store, journal in self.journals.items()
            for key, (_, at, _) in journal.rows.items()
        ]

    async def upload_cleared(self, store, key):
        self.journals[store].cleared(key)

    def stops_at_once(self):
        return False

    def stopping(self):
        return self.stop

    def log(self, action, message, **fields):
        self.lines.append((action, message))


def order_from(source, here, target, there="pine://office/", *, number=2, tmp="/tmp", **job):
    """To carry all from one place, at the store `posts`, to another, at `office`."""
    leg = {"from": here, "to": there}
    return Order(
        number,
        "transfer",
        read_definition({"job": "onward", "legs": [leg], **job}),
        {"posts": source, "office": target},
        Scratch(str(tmp)),
        retry=QUICK,
    )


async def run(
    memory,
    source,
    target,
    number=1,
    *,
    kind="transfer",
    tmp="/tmp",
    batches=BatchRules(),
    stamp="now",
    released=(),
    undo=False,
    settle_s=0.0,
    ours=(),
    resume=False,
    pace=RemovalPace(),
    part=ALL,
    **job,
):
    if not resume:
        memory.records, memory.intents = {}, {}
    legs = job.pop("legs", None) or [
        {
            "from": "pine://posts/",
            "to": "pine://office/dawn/",
            **{k: job.pop(k) for k in leg_keys() if k in job},
        }
    ]
    definition = read_definition({"job": "dawn", "legs": legs, **job})
    order = Order(
        number,
        kind,
        definition,
        {"posts": source, "office": target},
        Scratch(str(tmp), sort_rows=2),  # so that every run sorts on disk
        retry=QUICK,
        batches=batches,
        stamp=stamp,
        undo=undo,
        released=frozenset(released),
        ours=tuple(ours),
        settle_s=settle_s,
        pace=pace,
        part=part,
    )
    ending = await carry_out(order, memory)
    return ending


def done(memory):
    return Counter(
        f"{r.decision} {r.reason}" + (f" ({r.error})" if r.error else "")
        for r in memory.records.values()
    )


def posts(folder):
    return open_store({"kind": "folder", "name": "posts", "path": str(folder)})
