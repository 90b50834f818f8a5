"""Words that are told at two places are the same words."""

from __future__ import annotations

import re
from pathlib import Path

from pinecart.core.decide import Reason
from pinecart.core.reason_words import REASON_WORDS


def test_the_console_and_a_report_give_the_same_reasons():
    told = Path("console/src/lib/words.ts").read_text().partition("export const REASONS")[2]
    in_console = re.findall(r"^  '?([\w-]+)'?: '(.*)',$", told.partition("\n}\n")[0], re.M)
    assert dict(in_console) == REASON_WORDS
    assert {reason.value for reason in Reason} <= REASON_WORDS.keys()
