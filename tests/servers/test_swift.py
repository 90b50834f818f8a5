"""The s3 driver and whole runs, judged by OpenStack Swift."""

from __future__ import annotations

import hashlib
import os
import uuid

import pytest

from pinecart.core.definition_reading import read_definition
from pinecart.drivers import open_store
from pinecart.runner.run import Order, carry_out
from pinecart.runner.scratch import Scratch
from tests.contracts import store as contract
from tests.runner.engine import Memory, done, posts, run
from tests.runner.test_runs import LARGE
from tests.servers import swift

pytestmark = pytest.mark.xdist_group("swift")


@pytest.fixture(scope="session", autouse=True)
def server():
    swift.up()


def opened():
    spec = {
        "kind": "s3",
        "name": "swift",
        "endpoint": swift.ENDPOINT,
        "key_id": swift.KEY,
        "secret": swift.SECRET,
    }
    return open_store(spec | {"allowed": ["127.0.0.0/8"]})


@pytest.fixture
async def bucket():
    name = f"b{uuid.uuid4().hex[:10]}"
    store = opened()
    assert [await store.make_bucket(name) for _ in range(2)] == [True, False]
    await store.close()
    return name


class TestS3StoreOnSwift(contract.StoreContract):
    @pytest.fixture
    async def store(self, bucket):
        self.at = f"{bucket}/".encode()
        store = opened()
        yield store
        await store.close()


async def test_a_bucket_that_keeps_versions_needs_no_copies_set_aside(bucket, tmp_path):
    store = opened()
    body = b"<VersioningConfiguration><Status>Enabled</Status></VersioningConfiguration>"
    headers, payload = {"content-length": str(len(body))}, hashlib.sha256(body).hexdigest()
    answer = await store.client.ask(
        "PUT", bucket, query=[("versioning", "")], headers=headers, body=body, payload=payload
    )
    assert answer.status == 200 and await store.keeps_versions(f"{bucket}/".encode())
    await store.close()
    (tmp_path / "posts").mkdir()
    for name in ("gone.csv", "changed.csv"):
        (tmp_path / "posts" / name).write_bytes(b"as it was")
    memory, legs = (
        Memory(),
        {"to": f"pine://office/{bucket}/", "intent": "mirror", "guards": {"removals_percent": 100}},
    )
    await run(memory, posts(tmp_path / "posts"), opened(), **legs)
    (tmp_path / "posts" / "gone.csv").unlink()
    (tmp_path / "posts" / "changed.csv").write_bytes(b"as it is now")
    await run(memory, posts(tmp_path / "posts"), opened(), 2, **legs)
    assert done(memory) == {"remove gone": 1, "replace changed": 1}
    memory.undoing()
    await run(memory, posts(tmp_path / "posts"), opened(), 3, kind="undo", **legs)
    store = opened()
    found = [e.key async for page in store.list(f"{bucket}/".encode()) for e in page]
    assert found == [b"changed.csv", b"gone.csv"], done(memory)
    for key in found:
        async with store.open(f"{bucket}/".encode() + key) as reading:
            assert await reading.whole() == b"as it was"
    versions = await store.versions(f"{bucket}/gone.csv".encode())
    assert [(v.is_current, v.is_removal) for v in versions] == [
        (True, False),
        (False, True),
        (False, False),
    ]
    async with store.open(
        f"{bucket}/changed.csv".encode(),
        version=(await store.versions(f"{bucket}/changed.csv".encode()))[-1].version,
    ) as reading:
        assert await reading.whole() == b"as it was"
    await store.close()


async def test_there_and_back_and_inside_and_nothing_to_do(bucket, tmp_path):
    files = {"a.flac": b"song", "sub/é +%#?.csv": b"1,2", "empty": b"", "long.flac": LARGE}
    for name, body in files.items():
        (tmp_path / "here" / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / "here" / name).write_bytes(body)
        os.utime(tmp_path / "here" / name, ns=(10**18, 10**18))
    (tmp_path / "back").mkdir()

    async def carried(memory, number, source, target):
        stores = {
            n: open_store({"kind": "folder", "name": n, "path": str(tmp_path / n)})
            for n in ("here", "back")
        }
        definition = read_definition({"job": "j", "legs": [{"from": source, "to": target}]})
        ending = await carry_out(
            Order(
                number, "transfer", definition, stores | {"swift": opened()}, Scratch(str(tmp_path))
            ),
            memory,
        )
        assert ending.error is None
        counts = done(memory)
        memory.records.clear()
        memory.intents.clear()  # they are of one run
        return counts

    there, inside, back = Memory(), Memory(), Memory()
    ways = [
        (there, "pine://here/", f"pine://swift/{bucket}/a/"),
        (inside, f"pine://swift/{bucket}/a/", f"pine://swift/{bucket}/b/"),
        (back, f"pine://swift/{bucket}/b/", "pine://back/"),
    ]
    for memory, source, target in ways:
        assert await carried(memory, 1, source, target) == {"copy new": 4}
        assert await carried(memory, 2, source, target) == {}
    found = {
        str(p.relative_to(tmp_path / "back")): p.read_bytes()
        for p in (tmp_path / "back").rglob("*")
        if p.is_file()
    }
    assert found == files
    assert {p.stat().st_mtime_ns for p in (tmp_path / "back").rglob("*") if p.is_file()} == {10**18}
    there.rows.clear()
    assert await carried(there, 3, *ways[0][1:]) == {"leave recognised": 4}
