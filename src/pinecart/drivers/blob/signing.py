"""Who asks: the shared key of an account, or a shared access signature (blob service REST,
"Authorize with Shared Key").
"""

from __future__ import annotations

import base64
import binascii
import hmac
from collections.abc import Mapping, Sequence
from datetime import datetime
from email.utils import format_datetime
from functools import lru_cache
from typing import NamedTuple

from pinecart.core.errors import Refused
from pinecart.drivers.bucketed.wire import encoded_query

SIGNED_HEADERS = (
    "content-encoding",
    "content-language",
    "content-length",
    "content-md5",
    "content-type",
    "date",
    "if-modified-since",
    "if-match",
    "if-none-match",
    "if-unmodified-since",
    "range",
)


class BlobAccount(NamedTuple):
    """key: as bytes; empty: requests are not signed.   sas: the query of a shared access signature,
    which goes along with each address.
    """

    name: str
    key: bytes = b""
    sas: str = ""

    def __repr__(self) -> str:
        return f"BlobAccount({self.name!r}, …)"


def key_of(text: str) -> bytes:
    """Raises Refused for what is no key."""
    try:
        return base64.b64decode(text, validate=True)
    except (binascii.Error, ValueError) as exc:
        raise Refused(
            "The account's key is no Base64 text. Copy all of it, from the storage's page on "
            "access keys.",
            code="store.secret-wrong",
        ) from exc


def string_to_sign(
    method: str,
    account: str,
    path: str,
    query: Sequence[tuple[str, str | bytes]],
    headers: Mapping[str, str],
) -> str:
    """path: encoded, as it is asked for.   headers: names in small letters."""
    usual = [headers.get(name, "") for name in SIGNED_HEADERS]
    if usual[2] == "0":  # a length of nothing is told as nothing (since version 2015-02-21)
        usual[2] = ""
    own = []
    for name in sorted(headers):
        if name.startswith("x-ms-"):
            value = " ".join(headers[name].split())
            own.append(f"{name}:{value}")
    asked = sorted((name.lower(), _text(value)) for name, value in query)
    told = [f"{name}:{value}" for name, value in asked]
    lines = [method, *usual, *own, f"/{account}{path}", *told]
    return "\n".join(lines)


def _text(value: str | bytes) -> str:
    if isinstance(value, str):
        return value
    return value.decode()


@lru_cache(maxsize=8)
def _begun(key: bytes) -> hmac.HMAC:
    """To be copied for each signature: the key is then not worked in anew."""
    return hmac.new(key, digestmod="sha256")


@lru_cache(maxsize=64)
def _date(second: datetime) -> str:
    return format_datetime(second, usegmt=True)


def signed(
    method: str,
    path: str,
    query: Sequence[tuple[str, str | bytes]],
    headers: Mapping[str, str],
    account: BlobAccount,
    now: datetime,
) -> tuple[str, dict[str, str]]:
    """The query as it is sent, and the headers with what signs them."""
    text = encoded_query(query)
    if account.sas:
        return "&".join(filter(None, (text, account.sas))), dict(headers)
    if not account.key:
        return text, dict(headers)
    full = {**headers, "x-ms-date": _date(now.replace(microsecond=0))}
    told = string_to_sign(method, account.name, path, query, full).encode()
    mark = _begun(account.key).copy()
    mark.update(told)
    full["authorization"] = f"SharedKey {account.name}:{base64.b64encode(mark.digest()).decode()}"
    return text, full
