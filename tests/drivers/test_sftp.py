"""SFTP, judged by OpenSSH and by a server in Python with other habits."""

from __future__ import annotations

import pytest

from pinecart.drivers import open_store
from tests.contracts.store import StoreContract
from tests.runner.engine import QUICK
from tests.servers.sftp import PythonSftp, openssh


def opened(spec, **more):
    own = {"name": "partner", "allowed": ["127.0.0.0/8"], "retry": QUICK._asdict()}
    return open_store(own | spec | more)


@pytest.fixture(scope="module")
def server(tmp_path_factory):
    with openssh(tmp_path_factory.mktemp("sshd")) as found:
        yield found


class TestOpenSsh(StoreContract):
    @pytest.fixture
    async def store(self, server, tmp_path):
        (tmp_path / "there" / "larkfell").mkdir(parents=True)
        store = opened(server.spec(tmp_path / "there"))
        yield store
        await store.close()


@pytest.mark.parametrize("refuses", ["", "replace", "flush", "times"])
class TestPythonServer(StoreContract):
    keeps_neither = True

    @pytest.fixture
    async def store(self, tmp_path, refuses):
        (tmp_path / "there" / "larkfell").mkdir(parents=True)
        with PythonSftp(tmp_path / "there", frozenset({refuses})) as server:
            store = opened(server.spec())
            yield store
            await store.close()
