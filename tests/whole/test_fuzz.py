"""Anything that the published description allows, and much that it doesn't, to every operation: never a fault of ours."""

from __future__ import annotations

import os

import pytest
import schemathesis
from hypothesis import HealthCheck, settings
from schemathesis import checks

from tests.whole.house import house

SEEDS = int(os.environ.get("PINECART_SOAK", "0"))
CASES = 74 if SEEDS else 7  # of each operation
LONGEST_S = 5
CHECKS = [
    checks.not_a_server_error, checks.status_code_conformance, checks.content_type_conformance, checks.response_schema_conformance,
]  # fmt: skip
schema = schemathesis.openapi.from_path("docs/api.yml")


@pytest.fixture(scope="module")
def fuzzed(tmp_path_factory):
    with house(tmp_path_factory.mktemp("fuzzed")) as made:
        made.fresh_job("fuzzed", {"a": b"1", "sub/b": b"2"})
        made.carried("fuzzed")
        yield made


def at_home(case):
    """Whatever else is asked, no address but this machine's is ever given: nothing here sends to another one."""
    if isinstance(case.body, dict) and "store" in case.path:
        for field in ("endpoint", "proxy", "pasted"):
            if field in case.body and case.path != "/api/v1/store-forms/read":
                case.body[field] = "http://127.0.0.1:9" if field == "endpoint" else ""
    return case


@schema.parametrize()
@settings(max_examples=CASES, derandomize=True, deadline=None, suppress_health_check=list(HealthCheck))
def test_nothing_that_is_asked_is_a_fault_of_ours(case, fuzzed):
    answer = at_home(case).call(base_url=fuzzed.url, headers={"Authorization": f"Bearer {fuzzed.token}"}, timeout=30)
    assert answer.elapsed < LONGEST_S
    case.validate_response(answer, checks=CHECKS)
