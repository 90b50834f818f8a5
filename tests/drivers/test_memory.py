from __future__ import annotations

import pytest

from pinecart.drivers.memory import MemoryStore
from tests.contracts.store import StoreContract


class TestMemoryStore(StoreContract):
    @pytest.fixture
    def store(self):
        return MemoryStore("test", {})
