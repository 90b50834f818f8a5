"""Whole runs through random trees, rules, faults and kills. 10 seeds of each here; `make soak` sets
many more.

In the end a file is there byte for byte and recorded so, or it is listed as a problem; nothing
outside the destination is touched, nothing is lost that the definition did not say to remove or
clear, and the next run finds nothing to do.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import random

import pytest

from pinecart.core.retry import Retry
from pinecart.drivers import open_store
from pinecart.standins.faulty import FAULTS, BadLine
from tests.repeats import first
from tests.runner.engine import Memory, run
from tests.standin import KEY, SECRET

SEEDS = range(int(os.environ.get("PINECART_SOAK", "10")))
QUICK = Retry(times=6, first_s=0.005)
LEAST_PART = 8 << 20
WAYS = ("token-raw", "checksums-untold", "etags-opaque", "conditions-of-another-etag")


def opened(endpoint, name="office"):
    spec = {
        "kind": "s3",
        "name": name,
        "endpoint": endpoint,
        "key_id": KEY,
        "secret": SECRET,
        "silence_s": 0.3,
    }
    return open_store(spec | {"allowed": ["127.0.0.0/8"], "retry": QUICK._asdict()})


class World:
    """A source folder and a bucket with other people's things beside the destination."""

    def __init__(self, root, server, seed):
        self.random, self.root, self.server = random.Random(seed), root, server
        self.beside = {"in": b"0", "in-old/a": b"1", "in2": b"2", "i": b"3", "inn/x": b"4"}
        root.mkdir()
        if self.random.random() < 0.3:
            server.old |= {self.random.choice(WAYS)}
        for key, body in self.beside.items():
            server.shelf.put("dawn", key, body, {})
        for _ in range(self.random.randrange(25, 60)):
            self.write(self.name())

    def name(self):
        parts = [
            self.random.choice(["a", "b", "é +", "c%2F", "d.flac", "0", "zz", "\x01", "&lt;"])
            for _ in range(self.random.randrange(3))
        ]
        return "/".join(
            [
                *(f"f{p}" for p in parts),
                f"n{self.random.randrange(40)}.{self.random.choice(['flac', 'csv', 'tmp'])}",
            ]
        )

    def write(self, name):
        path = self.root / name
        path.parent.mkdir(parents=True, exist_ok=True)
        size = self.random.choice(
            [0, 1, 300, 5000, LEAST_PART + 5, 3 * LEAST_PART]
            if self.random.random() < 0.05
            else [0, 1, 300, 5000]
        )
        path.write_bytes(self.random.randbytes(size))
        os.utime(path, ns=(10**18 + self.random.randrange(10**15),) * 2)

    def change(self):
        for name in list(self.files()):
            what = self.random.random()
            if what < 0.15:
                (self.root / name).unlink()
            elif what < 0.3:
                self.write(name)
        for _ in range(self.random.randrange(8)):
            self.write(self.name())

    def files(self):
        return {
            str(p.relative_to(self.root)): p.read_bytes()
            for p in self.root.rglob("*")
            if p.is_file() and ".pinecart-aside" not in str(p)
        }

    def there(self):
        return {
            k[3:]: self.server.shelf.body("dawn", k)
            for k in self.server.shelf.buckets["dawn"]
            if k.startswith("in/")
        }

    def aside(self):
        bodies = [
            self.server.shelf.body("dawn", k)
            for k in self.server.shelf.buckets["dawn"]
            if ".pinecart-aside/" in k
        ]
        return bodies + [
            p.read_bytes()
            for p in self.root.rglob("*")
            if p.is_file() and ".pinecart-aside" in str(p)
        ]

    def check_beside(self):
        for key, body in self.beside.items():
            assert self.server.shelf.body("dawn", key) == body
        keys = set(self.server.shelf.buckets["dawn"]) - set(self.beside)
        assert all(k.startswith(("in/", ".pinecart-aside/")) for k in keys), keys
        assert not list(self.root.rglob(".pinecart-*.part"))


def taken(name, rules):
    return not (name.endswith(".tmp") and rules.get("leave_out"))


async def through(line, world, memory, number, rules, kill):
    """One run over the bad line; with `kill` its process is gone at some moment, and another one
    takes the run up.
    """
    server, port = await line.serve()
    try:
        for attempt in range(4):
            asides = [("posts", f".pinecart-aside/{n}/".encode()) for n in range(1, number + 1)]
            job = {"to": "pine://office/dawn/in/", "ours": asides, "resume": attempt > 0, **rules}
            source = open_store(
                {"kind": "folder", "name": "posts", "path": str(world.root), "run": number}
            )
            task = asyncio.ensure_future(
                run(memory, source, opened(f"http://127.0.0.1:{port}"), number, **job)
            )
            if kill and attempt < 2:
                await asyncio.sleep(world.random.random() * 0.6)
                if not task.done():
                    line.dead, memory.dead = True, True
                    rows = dict(memory.journal.rows)
                    task.cancel()
                    with contextlib.suppress(BaseException):
                        await task
                    line.dead, memory.dead, memory.journal.rows = False, False, rows
                    continue
            ending = await task
            if ending.error is None:
                return ending
            assert ending.error.code.startswith(("store.", "listing.")), ending.error
        line.rate = 0  # it failed as a whole, again and again, and said so: now the line is good
        source = open_store(
            {"kind": "folder", "name": "posts", "path": str(world.root), "run": number}
        )
        return await run(memory, source, opened(f"http://127.0.0.1:{port}"), number, **job)
    finally:
        server.close()


@pytest.mark.parametrize("kill", [False, True], ids=["faults", "faults and kills"])
@pytest.mark.parametrize("seed", first(3, SEEDS))
async def test_it_ends_as_the_intent_says_or_is_listed(tmp_path, office, seed, kill):
    server, _ = office
    endpoint_port = int(office[1]().client.origin.rpartition(":")[2])
    world, memory = World(tmp_path / "posts", server, seed), Memory()
    chance = world.random
    intent = chance.choice(["top-up", "renew", "mirror", "mirror", "hand-over", "hand-over"])
    rules = {
        "intent": intent,
        "leave_out": ["*.tmp"] if chance.random() < 0.5 else [],
        "compare": chance.choice(["since-last-run", "since-last-run", "size-and-time", "checksum"]),
        "guards": {
            "removals": 10_000,
            "removals_percent": 100,
            "replacements_percent": 100,
            "lost_percent": 100,
        },
    }
    placed: set[bytes] = set()
    listed: set[str] = set()
    for number in (1, 2):
        before, source = world.there(), world.files()
        line = BadLine(
            "127.0.0.1", endpoint_port, seed * 10 + number, rate=0.08, kinds=FAULTS, stall_s=0.5
        )
        ending = await through(line, world, memory, number, rules, kill)
        # only what an earlier run had listed as a problem, since it couldn't tell whether it had
        # arrived
        if ending.held:
            foreign = {k.decode() for k, r in memory.records.items() if r.reason == "foreign"}
            assert foreign and foreign <= listed, (foreign, listed)
            rules["released"] = [h.digest for h in ending.held]
            ending = await through(line, world, memory, number, rules, kill=False)
        listed = {k.decode() for k, r in memory.records.items() if r.error}
        check(world, rules, source, before, listed, ending)
        if number == 1:
            placed |= set(world.there().values())
            world.change()
    line = BadLine("127.0.0.1", endpoint_port, seed, rate=0)
    await through(
        line, world, memory, 3, rules, kill=False
    )  # what was listed is done over a good line
    last = await through(line, world, memory, 4, rules, kill=False)
    left = {r.error for r in memory.records.values() if r.error}
    wanted = (
        {"exists"} if intent == "hand-over" else set()
    )  # never replaces what it has cleared the source of
    assert last.acted == 0 and left <= wanted, (intent, memory.records)
    if not kill:
        assert not server.shelf.uploads
    if intent in (
        "mirror",
        "hand-over",
    ):  # these set aside all that they replace, remove or clear: no bytes are lost
        kept = {*world.there().values(), *world.aside(), *world.files().values()}
        assert placed <= kept, "what was placed there once is nowhere any more"


def check(world, rules, source, before, listed, ending):
    intent, there = rules["intent"], world.there()
    world.check_beside()
    assert not ending.held
    for name, body in source.items():
        if not taken(name, rules) or name in listed:
            continue
        if intent == "top-up" and name in before:
            assert there[name] == before[name]
        else:
            assert there.get(name) == body, (name, intent)
    if intent == "mirror":
        extra = {n for n in there if n not in source and taken(n, rules)}
        assert extra <= listed, extra - listed
    else:
        assert set(before) <= set(there)
    if intent == "hand-over":
        left = {n for n in world.files() if taken(n, rules)}
        assert left <= listed, left - listed
    else:
        assert world.files() == source
