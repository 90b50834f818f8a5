from __future__ import annotations

import os

import pytest

from pinecart.drivers import open_store
from tests.runner.engine import QUICK
from tests.standin import KEY, SECRET, running


@pytest.fixture
def folder(tmp_path):
    root = tmp_path / "posts"
    for name in ("a.flac", "sub/b.csv", "sub/é +%.txt", "empty"):
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).write_bytes(name.encode() * (0 if name == "empty" else 3))
        os.utime(root / name, ns=(10**18, 10**18))
    return root


@pytest.fixture
def office():
    with running("dawn") as (server, endpoint):
        yield (
            server,
            lambda: open_store(
                {
                    "kind": "s3",
                    "name": "office",
                    "endpoint": endpoint,
                    "key_id": KEY,
                    "secret": SECRET,
                    "allowed": ["127.0.0.0/8"],
                    "retry": QUICK._asdict(),
                }
            ),
        )
