"""The service's own functions over a real database, in this process: no server,
no other process.
"""

from __future__ import annotations

import os
from types import SimpleNamespace

import pytest


@pytest.fixture(scope="session")
def state(tmp_path_factory):
    """A prepared state folder, with Django set up on it."""
    root = tmp_path_factory.mktemp("service") / "state"
    os.environ |= {
        "PINECART_DATA": str(root),
        "DJANGO_SETTINGS_MODULE": "pinecart.service.config.settings",
    }
    from pinecart.service.config.state import StateFolder

    made = StateFolder(root)
    made.prepare()
    import django

    django.setup()
    from pinecart.service.config.preparing import prepare_records

    prepare_records(made)
    return made


@pytest.fixture
def services(state):
    """The runs' services, on empty tables."""
    from pinecart.service.aside.models import AsideRow, UploadRow
    from pinecart.service.jobs.models import JobRecord, JobVersion
    from pinecart.service.ledger import services as ledger
    from pinecart.service.ledger.models import LedgerRow, Scope
    from pinecart.service.runs.models import RecordRow, Run, RunEvent
    from pinecart.service.runs.services import holds, life_cycle, queue, run_records

    for table in (
        RecordRow,
        RunEvent,
        AsideRow,
        UploadRow,
        LedgerRow,
        Scope,
        Run,
        JobRecord,
        JobVersion,
    ):
        table.objects.all().delete()
    told = {**vars(ledger), **vars(run_records), **vars(life_cycle), **vars(queue), **vars(holds)}
    return SimpleNamespace(**{name: what for name, what in told.items() if callable(what)})
