from __future__ import annotations

import pytest

from tests.whole.house import house


@pytest.fixture(scope="session")
def shared(tmp_path_factory):
    """One service for all tests that leave it as they found it, but for stores and jobs of their
    own.
    """
    with house(tmp_path_factory.mktemp("shared")) as made:
        yield made


@pytest.fixture(autouse=True)
def no_guesses_yet(request):
    """All tests come from one address: one's wrong passwords are not the next one's."""
    if "shared" in request.fixturenames:
        request.getfixturevalue("shared").sql("DELETE FROM people_failures")
