"""The database as the engine meets it."""

from __future__ import annotations

import pytest

from tests.contracts.records import RecordsContract
from tests.service.test_records import working


class TestRunRecords(RecordsContract):
    @pytest.fixture
    def records(self, services, tmp_path):
        from pinecart.core.definition_reading import read_definition
        from pinecart.drivers.memory import MemoryStore
        from pinecart.runner.run import Order
        from pinecart.runner.scratch import Scratch
        from pinecart.service.worker.run_desk import RunRecords
        from pinecart.service.worker.run_log import RunLog

        run, _ = working(services)
        order = {"run": run.pk, "epoch": run.epoch, "kind": "transfer", "of": None}
        told = {**order, "definition": run.definition, "awaited_unknown": []}
        log = RunLog(run.pk, tmp_path / "log.jsonl")
        desk = RunRecords(told, log)
        stores = {name: MemoryStore(name, {}) for name in ("posts", "office")}
        definition = read_definition(run.definition)
        scratch = Scratch("/tmp")
        desk.open_scopes("dawn", Order(run.pk, "transfer", definition, stores, scratch))
        yield desk
        desk.forget_intents()
        log.close()
