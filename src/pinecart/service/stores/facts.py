"""A store as others see it: to be read, and never changed but by this app's services."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any, Protocol


class StoreFacts(Protocol):
    """See models.StoreRecord. What is sealed is none of it."""

    @property
    def name(self) -> str: ...
    @property
    def kind(self) -> str: ...
    @property
    def fields(self) -> Mapping[str, Any]: ...
    @property
    def labels(self) -> Sequence[str]: ...
    @property
    def secret_since(self) -> datetime | None: ...
    @property
    def tried_at(self) -> datetime | None: ...
    @property
    def tried(self) -> Any: ...
