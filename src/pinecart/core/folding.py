"""Names that a file system takes for one and the same: upper and lower case, or two ways to write
one letter.
"""

from __future__ import annotations

import unicodedata
from typing import NamedTuple


class Folding(NamedTuple):
    """case: `A` is `a`.   full: where case folds, `ß` is `ss` too.   forms: `é` is one code point
    or two (Unicode's NFC, NFD).

    None of them: names are bytes, and each is its own.
    """

    case: bool = False
    full: bool = False
    forms: bool = False

    def and_that_of(self, other: Folding) -> Folding:
        """What is one name at either of two places."""
        return Folding(*(a or b for a, b in zip(self, other, strict=True)))

    def fold(self, key: bytes) -> bytes:
        """The same for all keys that are one name. What isn't text stays as it is."""
        if key.isascii():
            if self.case:
                if self.full:
                    return key.lower()
                return key.upper()
            return key
        text = key.decode("utf-8", "surrogateescape")
        if self.forms:
            text = unicodedata.normalize("NFD", text)
        if self.case:
            text = text.casefold() if self.full else "".join(map(_upper, text))
        if self.forms:
            text = unicodedata.normalize("NFC", text)
        return text.encode("utf-8", "surrogateescape")


EXACT = Folding()
TELLING = "a-\u00e9-\u00df"  # a name that is written in another way by each rule


def other_spellings(name: bytes) -> dict[str, list[bytes]]:
    """By the field of Folding: other ways to write a name that are the same one only where that
    rule holds.
    """
    try:
        text = name.decode()
    except UnicodeDecodeError:
        return {}
    found = {
        "case": ["".join(map(_swapped, text))],
        "full": [text.replace("\u00df", "ss")],
        "forms": [unicodedata.normalize(form, text) for form in ("NFC", "NFD")],
    }
    kept = {rule: [o.encode() for o in others if o != text] for rule, others in found.items()}
    return {rule: others for rule, others in kept.items() if others}


def _swapped(letter: str) -> str:
    if letter.isascii():
        return letter.swapcase()
    return letter


def _upper(letter: str) -> str:
    """One letter to one letter, as tables of file systems have it."""
    upper = letter.upper()
    if len(upper) == 1:
        return upper
    return letter
