"""In every direction, with every way of server: bytes, names, times and metadata equal by a
comparison that is not ours.
"""

from __future__ import annotations

import os

import pytest

from pinecart.drivers import open_store
from tests.runner.engine import QUICK, Memory, done, run
from tests.standin import KEY, SECRET, running

OLD = ["", "conditions-refused", "conditions-ignored", "checksums-ignored", "listing-1"]
FILES = {
    "a.flac": b"song",
    "sub/b c+%#?&.csv": b"1,2",
    "sub/é.txt": "text é".encode(),
    "empty": b"",
    "long.flac": bytes(range(251)) * 70_000,
}
TIME = 1_700_000_000_123_456_789
# Legal in a bucket, and no names for a folder: they go from bucket to bucket as they are.
ODD = [
    "/leading",
    "a//b",
    "./here",
    "../up",
    "a/./b",
    "a/../b",
    "trailing/",
    "a",
    "a/b",
    "tab\tand\x01control",
    "line\nbreak",
    "é" * 512,
    "x" * 1024,
    " blank ",
    "%2F",
    "+",
    "?query",
    "#part",
    "back\\slash",
    "..",
    ".",
    "\U0001f426",
    "a/" * 400 + "end",
]


def bucket_at(endpoint, name):
    spec = {
        "kind": "s3",
        "name": name,
        "endpoint": endpoint,
        "key_id": KEY,
        "secret": SECRET,
        "retry": QUICK._asdict(),
    }
    return open_store(spec | {"allowed": ["127.0.0.0/8"]})


class Folder:
    def __init__(self, root, name, number):
        self.root, self.name = root / f"{name}{number}", name
        self.root.mkdir()

    def opened(self):
        return open_store({"kind": "folder", "name": self.name, "path": str(self.root)})

    def fill(self):
        for path, body in FILES.items():
            (self.root / path).parent.mkdir(exist_ok=True)
            (self.root / path).write_bytes(body)
            os.utime(self.root / path, ns=(TIME, TIME))

    place = ""

    def holds(self):
        """name → (bytes, time)."""
        files = [p for p in self.root.rglob("*") if p.is_file()]
        return {
            str(p.relative_to(self.root)): (p.read_bytes(), p.stat().st_mtime_ns) for p in files
        }


class Bucket:
    def __init__(self, server, endpoint, name, bucket):
        self.server, self.endpoint, self.name, self.bucket = server, endpoint, name, bucket
        server.shelf.make(bucket)
        self.place = f"{bucket}/"

    def opened(self):
        return bucket_at(self.endpoint, self.name)

    def fill(self):
        for key, body in FILES.items():
            headers = {
                "content-type": "x-test/x",
                "x-amz-meta-post": "aldermurr",
                "x-amz-meta-pinecart": f"id=0;time={TIME};crc64nvme=",
            }
            self.server.shelf.put(self.bucket, key, body, headers)

    def holds(self):
        """name → (bytes, time), read by the stand-in itself; and that type and metadata came along
        from a bucket.
        """
        found = {}
        for key, thing in self.server.shelf.buckets[self.bucket].items():
            card = dict(p.split("=", 1) for p in thing.headers["x-amz-meta-pinecart"].split(";"))
            found[key] = (self.server.shelf.body(self.bucket, key), int(card["time"]))
        return found


@pytest.mark.parametrize("old", OLD)
@pytest.mark.parametrize(
    "way",
    [
        "folder to bucket",
        "bucket to folder",
        "within one system",
        "to another system",
        "folder to folder",
    ],
)
async def test_what_arrives_is_what_was_there_and_the_second_time_nothing_moves(tmp_path, way, old):
    if way == "folder to folder" and old:
        return
    with running() as (server, endpoint), running() as (other, elsewhere):
        server.old = other.old = frozenset({old} - {""})
        source, target = {
            "folder to bucket": lambda: (
                Folder(tmp_path, "posts", 1),
                Bucket(server, endpoint, "office", "there"),
            ),
            "bucket to folder": lambda: (
                Bucket(server, endpoint, "posts", "here"),
                Folder(tmp_path, "office", 2),
            ),
            "within one system": lambda: (
                Bucket(server, endpoint, "posts", "here"),
                Bucket(server, endpoint, "office", "there"),
            ),
            "to another system": lambda: (
                Bucket(server, endpoint, "posts", "here"),
                Bucket(other, elsewhere, "office", "there"),
            ),
            "folder to folder": lambda: (
                Folder(tmp_path, "posts", 1),
                Folder(tmp_path, "office", 2),
            ),
        }[way]()
        source.fill()
        legs = {"from": f"pine://posts/{source.place}", "to": f"pine://office/{target.place}"}
        memory = Memory()
        ending = await run(memory, source.opened(), target.opened(), **legs)
        assert ending.error is None and done(memory) == {"copy new": 5}, memory.records
        assert target.holds() == {k: (body, TIME) for k, body in FILES.items()}
        if isinstance(source, Bucket) and isinstance(target, Bucket):
            kept = target.server.shelf.buckets[target.bucket].values()
            assert {(t.headers["content-type"], t.headers["x-amz-meta-post"]) for t in kept} == {
                ("x-test/x", "aldermurr")
            }
        again = await run(memory, source.opened(), target.opened(), 2, **legs)
        assert again.acted == 0 and not memory.records
        memory.rows.clear()
        again = await run(memory, source.opened(), target.opened(), 3, **legs)
        assert again.acted == 0, done(memory)


@pytest.mark.parametrize("way", ["within one system", "to another system"])
async def test_every_legal_key_goes_from_bucket_to_bucket_unchanged(way):
    with running("here", "there") as (server, endpoint), running("there") as (other, elsewhere):
        for n, key in enumerate(ODD):
            server.shelf.put("here", key, b"%d" % n, {})
        there = server if way == "within one system" else other
        target = bucket_at(endpoint if there is server else elsewhere, "office")
        memory, legs = Memory(), {"from": "pine://posts/here/", "to": "pine://office/there/"}
        ending = await run(memory, bucket_at(endpoint, "posts"), target, **legs)
        listed = {k.decode(): r.error for k, r in memory.records.items() if r.error}
        assert ending.error is None and not listed, listed
        assert {k: there.shelf.body("there", k) for k in there.shelf.buckets["there"]} == {
            k: b"%d" % n for n, k in enumerate(ODD)
        }


async def test_to_a_folder_every_name_arrives_or_is_listed(tmp_path):
    with running("here") as (server, endpoint):
        for n, key in enumerate(ODD):
            server.shelf.put("here", key, b"%d" % n, {})
        memory, there = Memory(), Folder(tmp_path, "office", 1)
        await run(
            memory,
            bucket_at(endpoint, "posts"),
            there.opened(),
            **{"from": "pine://posts/here/", "to": "pine://office/"},
        )
        refused = {k.decode() for k, r in memory.records.items() if r.error}
        arrived = {k for k, _ in there.holds().items()}
        assert arrived | refused >= set(ODD) and not arrived & refused
        assert {"../up", "..", "/leading", "a//b"} <= refused and {
            "tab\tand\x01control",
            "%2F",
            " blank ",
        } <= arrived
        assert sorted(p.name for p in tmp_path.iterdir()) == ["office1"]  # nothing got out
