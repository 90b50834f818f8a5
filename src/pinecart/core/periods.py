"""How long what was recorded is kept, in days."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple


class Periods(NamedTuple):
    """In days; 0: without end. What a run came to (its totals, its sentence) stays as long as the
    run; `previews` ends whole ones.
    """

    records: int = 90
    logs: int = 90
    previews: int = 14
    runs: int = 1100
    notices: int = 90

    @classmethod
    def of(cls, given: Mapping[str, int]) -> Periods:
        return cls(**{name: days for name, days in given.items() if name in cls._fields})


PERIOD_TITLES = {
    "records": "What was done to each file",
    "logs": "Logs of runs",
    "previews": "Previews",
    "runs": "Runs, with their totals",
    "notices": "What was told",
}
MOST_DAYS = 36_500
