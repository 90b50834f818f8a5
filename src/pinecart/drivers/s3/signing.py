"""Signature Version 4 of a request (AWS Signature Version 4 for the S3 API)."""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Mapping
from datetime import datetime
from functools import lru_cache
from typing import NamedTuple
from urllib.parse import quote

UNSIGNED = "UNSIGNED-PAYLOAD"


class Keys(NamedTuple):
    """key_id empty: requests are not signed at all (anonymous).   session: the token of a temporary
    key.
    """

    key_id: str
    secret: str
    session: str = ""

    def __repr__(self) -> str:
        return f"Keys({self.key_id!r}, …)"


def encoded_path(bucket: str, key: bytes = b"") -> str:
    """The path of a bucket or object, every byte but the unreserved and `/` percent-encoded.

    Nothing is normalised.
    """
    name = quote(key, safe="/-_.~")
    if bucket:
        if name:
            return f"/{bucket}/{name}"
        return f"/{bucket}"
    return f"/{name}"


@lru_cache(maxsize=64)
def _stamp(second: datetime) -> str:
    return second.strftime("%Y%m%dT%H%M%SZ")


@lru_cache(maxsize=64)
def _day_key(secret: str, day: str, region: str) -> hmac.HMAC:
    """To be copied for each signature: the key is then not worked in anew."""
    key = f"AWS4{secret}".encode()
    for part in (day, region, "s3", "aws4_request"):
        text = part.encode()
        key = hmac.digest(key, text, "sha256")
    return hmac.new(key, digestmod="sha256")


def signed(
    method: str,
    path: str,
    query: str,
    headers: Mapping[str, str],
    *,
    payload: str,
    keys: Keys,
    region: str,
    now: datetime,
) -> dict[str, str]:
    """The headers with date, payload hash and Authorization added. headers: names in lower case,
    with Host. payload: hex SHA-256 or UNSIGNED.
    """
    stamp = _stamp(now.replace(microsecond=0))
    full = dict(headers)
    if not keys.key_id:
        return full
    full["x-amz-date"] = stamp
    full["x-amz-content-sha256"] = payload
    if keys.session:
        full["x-amz-security-token"] = keys.session
    names = sorted(full)
    listed = ";".join(names)
    lines = "\n".join([f"{n}:{' '.join(full[n].split())}" for n in names])
    canonical = f"{method}\n{path}\n{query}\n{lines}\n\n{listed}\n{payload}"
    scope = f"{stamp[:8]}/{region}/s3/aws4_request"
    text = f"AWS4-HMAC-SHA256\n{stamp}\n{scope}\n{hashlib.sha256(canonical.encode()).hexdigest()}"
    mark = _day_key(keys.secret, stamp[:8], region).copy()
    mark.update(text.encode())
    full["authorization"] = (
        f"AWS4-HMAC-SHA256 Credential={keys.key_id}/{scope}, SignedHeaders={listed}, "
        f"Signature={mark.hexdigest()}"
    )
    return full
