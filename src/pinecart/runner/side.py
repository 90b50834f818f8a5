from __future__ import annotations

from typing import NamedTuple

from pinecart.core.ports import Store


class Side(NamedTuple):
    """A store and the prefix of the leg in it."""

    store: Store
    prefix: bytes
