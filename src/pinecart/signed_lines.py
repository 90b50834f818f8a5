"""Files of JSON lines that a service vouches for: the last line carries the number of those before
it, their SHA-256, the time, and an Ed25519 signature (RFC 8032) over the four.

Whoever has the file and the service's public key can check it, without the service.
"""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

FORM = "pinecart-signed-lines/1"


class Checked(NamedTuple):
    """is_good: the lines are as they were signed.   words: what was found, in a sentence.
    lines: so many come before the signature.
    """

    is_good: bool
    words: str
    lines: int = 0
    signed_at: str = ""


def signed(lines: Iterable[bytes], key: Ed25519PrivateKey, at: str) -> Iterator[bytes]:
    """The lines as they are, and one that vouches for them. at: a time, in ISO 8601."""
    digest = hashlib.sha256()
    count = 0
    for line in lines:
        digest.update(line)
        count += 1
        yield line
    sha256 = digest.hexdigest()
    signature = key.sign(signed_text(FORM, count, sha256, at))
    told = {
        "lines": count,
        "sha256": sha256,
        "at": at,
        "key": public_text(key.public_key()),
        "signature": as_text(signature),
    }
    last = json.dumps({"signed": told})
    yield last.encode() + b"\n"


def check(lines: Iterable[bytes], public_key: str) -> Checked:
    """public_key: of the service that is believed, as `public_text` gives it."""
    digest = hashlib.sha256()
    count = 0
    last = b""
    for line in lines:
        if last:
            digest.update(last)
            count += 1
        last = line
    try:
        told = json.loads(last)["signed"]
        at = str(told["at"])
        text = signed_text(FORM, told["lines"], told["sha256"], at)
        signature = base64.b64decode(told["signature"])
    except (ValueError, KeyError, TypeError):
        return Checked(False, "Its last line is no signature: the file was cut, or never signed.")
    if told.get("key") != public_key:
        words = "It was signed by another key than the one that is believed here."
        return Checked(False, words, count, at)
    if not is_signed(text, signature, public_key):
        return Checked(False, "Its signature doesn't fit what it says it signs.", count, at)
    if (count, digest.hexdigest()) != (told["lines"], told["sha256"]):
        words = f"It was changed: {told['lines']:,} lines were signed, as others than these."
        return Checked(False, words, count, at)
    return Checked(True, f"Whole: {count:,} lines, as they were signed {at}.", count, at)


def signed_text(form: str, count: int, digest: str, at: str) -> bytes:
    """What a signature is made over."""
    return f"{form}\n{count}\n{digest}\n{at}".encode()


def is_signed(text: bytes, signature: bytes, public_key: str) -> bool:
    try:
        Ed25519PublicKey.from_public_bytes(base64.b64decode(public_key)).verify(signature, text)
    except (InvalidSignature, ValueError):
        return False
    return True


def public_text(key: Ed25519PublicKey) -> str:
    return as_text(key.public_bytes_raw())


def as_text(given: bytes) -> str:
    return base64.b64encode(given).decode()
