"""Words that are told at two places are the same words."""

from __future__ import annotations

import re
from pathlib import Path

from pinecart.core.decide import Reason
from pinecart.core.reason_words import PROOF_WORDS, REASON_WORDS


def in_console(name):
    told = Path("console/src/lib/words.ts").read_text().partition(f"export const {name}:")[2]
    return dict(re.findall(r"^  '?([\w-]+)'?: '(.*)',$", told.partition("\n}\n")[0], re.M))


def test_the_console_and_a_report_use_the_same_words():
    assert in_console("REASONS") == REASON_WORDS
    assert in_console("PROOFS") == PROOF_WORDS
    assert {reason.value for reason in Reason} <= REASON_WORDS.keys()
