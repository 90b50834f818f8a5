"""What is asked once more: by another seed, of another kind of store, of a server with another
habit. `make test` has the first of each, so that it takes minutes; `make test-all` has all of
them, and comes before anything that others get.
"""

from __future__ import annotations

import os
from collections.abc import Iterable
from typing import TypeVar

import pytest

T = TypeVar("T")
ALL = bool(os.environ.get("PINECART_ALL") or os.environ.get("PINECART_SOAK"))
repeat = pytest.mark.skipif(not ALL, reason="make test-all has it")


def first(most: int, values: Iterable[T]) -> list[T]:
    """Of the values of a parameter, the most telling first."""
    found = list(values)
    return found if ALL else found[:most]
