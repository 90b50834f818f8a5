"""By what an object that was placed tells which decision placed it."""

from __future__ import annotations

import hashlib

from pinecart.core.entries import Entry, fingerprint

REPLACED = "r"


def decision_id(run: int, leg: int, entry: Entry, replaces: Entry | None = None) -> str:
    """The same for the same decision, in whatever process it is carried out.

    It ends in REPLACED if something was there.
    """
    text = b"%d|%d|%b|%b" % (run, leg, entry.key, fingerprint(entry).encode())
    return hashlib.blake2b(text, digest_size=16).hexdigest() + (REPLACED if replaces else "")
