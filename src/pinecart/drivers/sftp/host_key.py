"""A server's host key: how it is told, pasted and pinned, by the SHA-256 of its public part."""

from __future__ import annotations

import base64
import binascii
import hashlib
import re
from typing import NamedTuple

_FINGERPRINT = re.compile(r"SHA256:[A-Za-z0-9+/]{43}=?")
_ALGORITHM = re.compile(r"(?:ssh|ecdsa|sk-ssh|sk-ecdsa)-[a-z0-9@.-]+")


class HostKey(NamedTuple):
    """algorithm: such as ssh-ed25519; empty: any.   fingerprint: `SHA256:` and 43 characters."""

    algorithm: str
    fingerprint: str

    def __str__(self) -> str:
        return f"{self.algorithm} {self.fingerprint}".strip()

    def is_that(self, shown: HostKey) -> bool:
        same_kind = not self.algorithm or self.algorithm == shown.algorithm
        return same_kind and self.fingerprint == shown.fingerprint


def host_key_of(text: str) -> HostKey | None:
    """From a fingerprint, a public key's line, or a line of known hosts; None: it is none."""
    words = text.split()
    algorithm = next((w for w in words if _ALGORITHM.fullmatch(w)), "")
    for word in words:
        if _FINGERPRINT.fullmatch(word):
            return HostKey(algorithm, word.rstrip("="))
    if not algorithm:
        return None
    at = words.index(algorithm)
    try:
        data = base64.b64decode(words[at + 1], validate=True)
    except (IndexError, binascii.Error):
        return None
    return HostKey(algorithm, fingerprint_of(data))


def fingerprint_of(public_data: bytes) -> str:
    digest = base64.b64encode(hashlib.sha256(public_data).digest())
    return "SHA256:" + digest.decode().rstrip("=")


def wrong_with(text: str) -> str:
    """What is wrong with a pinned key, in a sentence; empty: nothing."""
    if host_key_of(text):
        return ""
    return (
        "A host key is a fingerprint such as SHA256:…, the line of a public key, or a line of a "
        "known-hosts file."
    )
