"""Blob storage: Azurite, and what a server of ours does that Azurite doesn't."""

from __future__ import annotations

import pytest

from tests.contracts.remote_tree import opened
from tests.contracts.store import StoreContract
from tests.servers.azurite import azurite


@pytest.fixture(scope="module")
def server():
    with azurite() as found:
        yield found


@pytest.fixture
def container(server):
    return server.container()


@pytest.mark.parametrize("confined", [False, True], ids=["whole account", "one container"])
class TestAzurite(StoreContract):
    @pytest.fixture
    async def store(self, server, container, confined):
        self.at = b"in/" if confined else f"{container}/".encode()
        store = opened(server.spec(container if confined else ""))
        yield store
        await store.close()
        assert not server.names(container, "uncommittedblobs") or server.names(container)
