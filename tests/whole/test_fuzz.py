"""Anything that the published description allows, and much that it doesn't, to every operation:
never a fault of ours.
"""

from __future__ import annotations

import os
from http.cookiejar import DefaultCookiePolicy

import pytest
import requests
import schemathesis
from hypothesis import HealthCheck, settings
from schemathesis import checks

from tests.repeats import ALL
from tests.whole.house import house

SEEDS = int(os.environ.get("PINECART_SOAK", "0"))
CASES = 75 if SEEDS else 8  # of each operation, beside those at the borders of its schema
CHAINS, STEPS = (100, 10) if SEEDS else (8, 6)
LONGEST_S = 25
SHAPES = [
    checks.status_code_conformance,
    checks.content_type_conformance,
    checks.response_schema_conformance,
]
NOBODY = dict.fromkeys(("endpoint", "url", "auth_url", "storage_url"), "http://127.0.0.1:9") | {
    "host": "127.0.0.1",
    "port": 9,
    "addressing": "path",
    "proxy": "",
    "pasted": "",
}
schema = schemathesis.openapi.from_path("docs/api.yml")
schema.config.phases.coverage.enabled = ALL  # hundreds at the borders, where a body has many fields
health = list(HealthCheck)


@pytest.fixture(scope="module")
def fuzzed(tmp_path_factory):
    with house(tmp_path_factory.mktemp("fuzzed")) as made:
        made.fresh_job("fuzzed", {"a": b"1", "sub/b": b"2"})
        made.carried("fuzzed")
        yield made


@pytest.fixture(scope="module")
def line():
    """One for many calls: what an answer wants to be kept is not, and no call is led elsewhere."""
    with requests.Session() as made:
        made.trust_env = False
        made.cookies.set_policy(DefaultCookiePolicy(allowed_domains=[]))
        yield made


def at_home(case):
    """Whatever else is asked, no address but this machine's is ever given, and the asker stays one
    who may ask.
    """
    named = case.path_parameters
    if case.path.endswith("/tokens/{number}") and str(named.get("number")) == "1":
        named["number"] = 2
    if "/people/" in case.path and named.get("name") == "admin":
        named["name"] = "somebody"
    case.query.pop("key", None)  # the calendar's: another asker
    if isinstance(case.body, dict) and case.path != "/api/v1/store-forms/read":
        case.body |= {field: NOBODY[field] for field in NOBODY.keys() & case.body.keys()}
    return case


def is_of_its_store(answer):
    """A store that nobody answers for is told as it is: a bad gateway."""
    return answer.status_code == 502 and answer.json()["code"] == "store.unreachable"


def asked(case, house, line):
    headers = {"Authorization": f"Bearer {house.token}"}
    answer = at_home(case).call(
        base_url=house.url, headers=headers, timeout=30, session=line, max_redirects=0
    )
    assert answer.elapsed < LONGEST_S
    assert answer.status_code != 401 or case.path.endswith("/session"), (
        "it is still let in, so that it is asked for more than that"
    )
    faults = [] if is_of_its_store(answer) else [checks.not_a_server_error]
    case.validate_response(answer, checks=faults + SHAPES)
    return answer


@schema.parametrize()
@settings(max_examples=CASES, derandomize=True, deadline=None, suppress_health_check=health)
def test_nothing_that_is_asked_is_a_fault_of_ours(case, fuzzed, line):
    asked(case, fuzzed, line)


def test_nor_is_what_is_asked_one_after_another(fuzzed, line):
    """What one answer tells is asked for by the next call."""

    class Chain(schema.as_state_machine()):
        def call(self, case, **kwargs):
            return asked(case, fuzzed, line)

        def validate_response(self, response, case, additional_checks=(), **kwargs):
            """Done where it was asked."""

    Chain.run(
        settings=settings(
            max_examples=CHAINS,
            stateful_step_count=STEPS,
            derandomize=True,
            deadline=None,
            suppress_health_check=health,
        )
    )
