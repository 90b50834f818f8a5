"""A job as others see it: to be read, and never changed but by this app's services."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any, Protocol


class JobFacts(Protocol):
    """See models.JobRecord."""

    @property
    def name(self) -> str: ...
    @property
    def definition(self) -> Mapping[str, Any]: ...
    @property
    def version(self) -> int: ...
    @property
    def is_on(self) -> bool: ...
    @property
    def switched_by(self) -> str: ...
    @property
    def switched_at(self) -> datetime | None: ...
    @property
    def switched_why(self) -> str: ...
    @property
    def saved_at(self) -> datetime: ...
    @property
    def next_due(self) -> datetime | None: ...
