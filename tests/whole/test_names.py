"""Tests share one service: what each adds to it has a name of its own."""

from __future__ import annotations

import re
from collections import Counter
from pathlib import Path

ADDED = re.compile(r"""shared\.fresh_(?:job|store)\(\s*"([a-z0-9-]+)\"""")


def test_no_two_tests_add_what_has_the_same_name():
    found = Counter[str]()
    for file in Path(__file__).parent.glob("test_*.py"):
        found.update(ADDED.findall(file.read_text()))
    assert len(found) > 50
    assert [name for name, times in found.items() if times > 1] == []
