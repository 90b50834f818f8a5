"""One bit changes on its way, over plain HTTP: it is found, or nobody says that the object was
proven.

Every proof but `size-only` rests on a sum that came from elsewhere than the bytes themselves.
"""

from __future__ import annotations

import os
import random

import pytest

from pinecart.core.retry import Retry
from pinecart.drivers import open_store
from pinecart.standins.bucket_behaviour import Account
from pinecart.standins.bucket_server import BucketServer
from pinecart.standins.faulty import BadLine
from tests.repeats import first
from tests.runner.engine import Memory, posts, run
from tests.standin import KEY, SECRET, running

MIB = 1 << 20
SIZES = {"one": 1, "below": 8 * MIB - 1, "held": 8 * MIB, "above": 8 * MIB + 1, "large": 24 * MIB}
KINDS = {
    "tells checksums": (),
    "tells MD5s alone": ("checksums-untold",),
    "tells nothing": ("checksums-untold", "etags-opaque"),
}
WAYS = {
    "out": ("flip-up",),
    "in": ("flip",),
    "through us": ("flip",),
}  # and which way the bytes come over the line
SEEDS = range(max(1, int(os.environ.get("PINECART_SOAK", "1")) // 10))


def opened(name, port, **more):
    spec = {
        "kind": "s3",
        "name": name,
        "endpoint": f"http://127.0.0.1:{port}",
        "key_id": KEY,
        "secret": SECRET,
    }
    retry = Retry(times=6, first_s=0.005)._asdict()
    return open_store(spec | {"allowed": ["127.0.0.0/8"], "retry": retry, "silence_s": 2.0} | more)


async def carried(tmp_path, way, line, plain_port, bodies, server):
    """One run with the bad line on the way of the bytes.

    Gives its records, and what lies at the destination.
    """
    memory, (relay, port) = Memory(), await line.serve()
    folder = tmp_path / "files"
    folder.mkdir()
    try:
        if way == "out":
            for name, body in bodies.items():
                (folder / name).write_bytes(body)
            ending = await run(
                memory, posts(folder), opened("office", port), to="pine://office/dawn/"
            )
        else:
            made = tmp_path / "made"
            made.mkdir()
            for name, body in bodies.items():
                (made / name).write_bytes(body)
            await run(Memory(), posts(made), opened("office", plain_port), to="pine://office/dawn/")
            source = {"from": "pine://posts/dawn/"}
            if way == "in":
                target = open_store({"kind": "folder", "name": "office", "path": str(folder)})
                ending = await run(
                    memory, opened("posts", port), target, **source, to="pine://office/"
                )
            else:
                target = opened("office", plain_port)
                rules = {"route": "through-us", "to": "pine://office/copy/"}
                ending = await run(memory, opened("posts", port), target, **source, **rules)
    finally:
        relay.close()
    if way == "in":
        there = {p.name: p.read_bytes() for p in folder.iterdir() if not p.name.startswith(".")}
    else:
        bucket = "dawn" if way == "out" else "copy"
        there = {k: server.shelf.body(bucket, k) for k in server.shelf.buckets[bucket]}
    return ending, {k.decode(): r for k, r in memory.records.items()}, there


def check(records, there, bodies):
    for name, record in records.items():
        if record.done and record.proof != "size-only":
            assert there[name] == bodies[name], (name, record)
        elif not record.done:
            assert record.error, record


@pytest.mark.parametrize("everywhere", [False, True], ids=["bodies", "anywhere"])
@pytest.mark.parametrize("kind", first(1, KINDS))
@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize("seed", SEEDS)
async def test_a_flipped_bit_is_found_or_the_proof_says_size_only(
    tmp_path, way, kind, everywhere, seed
):
    chance = random.Random(seed)
    with running(
        "dawn", "copy", server=BucketServer({KEY: Account(SECRET)}, old=frozenset(KINDS[kind]))
    ) as (
        server,
        url,
    ):
        port = int(url.rpartition(":")[2])
        bodies = {name: chance.randbytes(size) for name, size in SIZES.items()}
        kinds = ("flip", "flip-up") if everywhere else WAYS[way]
        line = BadLine(
            "127.0.0.1",
            port,
            seed,
            rate=0.5,
            kinds=kinds,
            quiet_after=5 if everywhere else 2,
            everywhere=everywhere,
        )
        ending, records, there = await carried(tmp_path, way, line, port, bodies, server)
        assert line.counts.total(), "no bit was flipped"
        check(records, there, bodies)
        if not everywhere:
            assert (
                ending.error is None
                and there == bodies
                and not [r for r in records.values() if r.error]
            )
            assert {r.proof for r in records.values()} <= {"server-verified", "read-back"}


@pytest.mark.parametrize("name", SIZES)
@pytest.mark.parametrize("kind", first(1, KINDS))
async def test_one_flip_in_each_body_on_its_way_down(tmp_path, name, kind):
    """The first answer with bytes of the object has one bit wrong; the object
    still arrives whole.
    """
    body = random.Random(name).randbytes(SIZES[name])
    with running(
        "dawn", "copy", server=BucketServer({KEY: Account(SECRET)}, old=frozenset(KINDS[kind]))
    ) as (
        server,
        url,
    ):
        port = int(url.rpartition(":")[2])
        line = BadLine(
            "127.0.0.1", port, 1, rate=1, kinds=("flip",), methods=("GET",), quiet_after=1
        )
        ending, records, there = await carried(tmp_path, "in", line, port, {name: body}, server)
        assert line.counts == {"flip": 1}
        assert ending.error is None and there == {name: body} and records[name].proof == "read-back"
        assert records[name].tries == 2 or SIZES[name] > 8 * MIB - 1
