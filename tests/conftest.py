"""Property tests are not timed: how long an example takes says how busy the machine is. A server
that several processes of the tests share is ended by the first of them, once all is done.
"""

from __future__ import annotations

import pytest
from hypothesis import HealthCheck, settings

from tests.servers import swift

settings.register_profile("untimed", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("untimed")
_WAS_UP = pytest.StashKey[bool]()


def pytest_sessionstart(session: pytest.Session) -> None:
    session.config.stash[_WAS_UP] = swift.answers()


def pytest_sessionfinish(session: pytest.Session) -> None:
    is_first = not hasattr(session.config, "workerinput")
    if is_first and not session.config.stash[_WAS_UP]:
        swift.end()
