"""Whole runs to and from OpenStack Swift through a line that cuts, stalls, lies and flips bits;
looked at by another client.
"""

from __future__ import annotations

import os
import random
import uuid

import pytest
from botocore.config import Config
from botocore.session import get_session

from pinecart.core.retry import Retry
from pinecart.drivers import open_store
from pinecart.standins.faulty import FAULTS, BadLine
from tests.runner.engine import Memory, posts, run
from tests.servers import swift
from tests.servers.test_swift import server  # noqa: F401 - a fixture

pytestmark = pytest.mark.xdist_group("swift")
SEEDS = range(max(2, int(os.environ.get("PINECART_SOAK", "2")) // 5))
NAMES = ["a", "f/é +", "f/c%2F", "f/g/\x01", "d.flac", "f/&lt;", "0"]


def opened(port, name="office"):
    spec = {
        "kind": "s3",
        "name": name,
        "endpoint": f"http://127.0.0.1:{port}",
        "key_id": swift.KEY,
        "secret": swift.SECRET,
    }
    retry = Retry(times=6, first_s=0.01)._asdict()
    return open_store(spec | {"allowed": ["127.0.0.0/8"], "retry": retry, "silence_s": 3.0})


def other_client():
    made = get_session().create_client(
        "s3",
        endpoint_url=swift.ENDPOINT,
        region_name="us-east-1",
        aws_access_key_id=swift.KEY,
        aws_secret_access_key=swift.SECRET,
        config=Config(s3={"addressing_style": "path"}),
    )
    return made


@pytest.mark.parametrize("seed", SEEDS)
async def test_out_and_in_through_a_lying_line_ends_equal_or_listed(tmp_path, server, seed):  # noqa: F811
    chance, bucket = random.Random(seed), f"b{uuid.uuid4().hex[:10]}"
    client = other_client()
    client.create_bucket(Bucket=bucket)
    here, back = tmp_path / "here", tmp_path / "back"
    back.mkdir()
    bodies = {name: chance.randbytes(chance.choice([0, 1, 5000])) for name in NAMES}
    bodies["large"] = chance.randbytes(2 * (8 << 20) + 5)
    for name, body in bodies.items():
        (here / name).parent.mkdir(parents=True, exist_ok=True)
        (here / name).write_bytes(body)
    port = int(swift.ENDPOINT.rpartition(":")[2])
    line = BadLine("127.0.0.1", port, seed, rate=0.08, kinds=FAULTS, stall_s=0.5)
    relay, relayed = await line.serve()
    try:
        memory = Memory()
        memory.journal = None
        ending = await run(memory, posts(here), opened(relayed), to=f"pine://office/{bucket}/in/")
        assert ending.error is None or ending.error.code.startswith(("store.", "listing."))
        there = {}
        for row in client.list_objects_v2(Bucket=bucket, Prefix="in/").get("Contents", []):
            there[row["Key"][3:]] = client.get_object(Bucket=bucket, Key=row["Key"])["Body"].read()
        for name, record in memory.records.items():
            if record.done and record.proof != "size-only":
                assert there[name.decode()] == bodies[name.decode()], record
            assert record.done or record.error
        if ending.error is None:
            assert {
                n
                for n in bodies
                if n.encode() not in {k for k, r in memory.records.items() if r.error}
            } <= set(there)
        memory, line.rate = Memory(), 0.08
        target = open_store({"kind": "folder", "name": "office", "path": str(back)})
        source = {"from": f"pine://posts/{bucket}/in/"}
        ending = await run(memory, opened(relayed, "posts"), target, to="pine://office/", **source)
        assert ending.error is None or ending.error.code.startswith(("store.", "listing."))
        for key, record in memory.records.items():
            if record.done and record.proof != "size-only":
                assert (back / key.decode()).read_bytes() == there[key.decode()], record
            assert record.done or record.error
    finally:
        relay.close()
