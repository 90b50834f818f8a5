"""Checks signatures, version 4, in the Authorization header and in presigned addresses, with the
clock's skew.
"""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from typing import NamedTuple
from urllib.parse import quote, unquote_to_bytes

SKEW = timedelta(minutes=15)


class Denied(Exception):
    """code: the protocol's own error code."""

    def __init__(self, code: str) -> None:
        super().__init__(code)
        self.code = code


class _Signature(NamedTuple):
    """scope: key id, day, region, service.   listed: the names of the signed headers.   stamp: when
    it was made.   payload: the hash of the body that was signed.
    """

    scope: str
    listed: str
    mark: str
    stamp: str
    payload: str


def who_signed(
    method: str,
    raw: str,
    headers: Mapping[str, str],
    secrets: Mapping[str, str],
    *,
    now: datetime,
    region: str,
) -> str:
    """The key id whose secret signed this request.

    raw: path and query as they came. Raises Denied.
    """
    path, _, query_text = raw.partition("?")
    query = _pairs(query_text)
    given = {k.decode(): v.decode() for k, v in query if k.startswith(b"X-Amz-")}
    if "X-Amz-Signature" in given:
        query = [q for q in query if q[0] != b"X-Amz-Signature"]
        signature = _presigned(given, now)
    else:
        signature = _in_header(headers, now)
    key_id, day, given_region, service, last = signature.scope.rsplit("/", 4)
    if key_id not in secrets:
        raise Denied("InvalidAccessKeyId")
    if given_region != region:
        raise Denied("AuthorizationHeaderMalformed")
    canonical = _canonical(method, path, query, headers, signature)
    scope = "/".join((day, given_region, service, last))
    digest = hashlib.sha256(canonical.encode()).hexdigest()
    text = "\n".join(["AWS4-HMAC-SHA256", signature.stamp, scope, digest])
    key = b"AWS4" + secrets[key_id].encode()
    for part in (day, given_region, service, last, text):
        key = hmac.new(key, part.encode(), hashlib.sha256).digest()
    if not hmac.compare_digest(key.hex(), signature.mark):
        raise Denied("SignatureDoesNotMatch")
    return key_id


def _pairs(query_text: str) -> list[tuple[bytes, bytes]]:
    """Names and values of a query, decoded, in the order they were sent; a part without a value has
    an empty one.
    """
    pairs = []
    for text in query_text.split("&"):
        name, _, value = text.partition("=")
        if text:
            pairs.append((unquote_to_bytes(name), unquote_to_bytes(value)))
    return pairs


def _presigned(given: Mapping[str, str], now: datetime) -> _Signature:
    """In the address itself."""
    latest = _time(given["X-Amz-Date"]) + timedelta(seconds=int(given["X-Amz-Expires"]))
    if now > latest:
        raise Denied("AccessDenied")
    return _Signature(
        given["X-Amz-Credential"],
        given["X-Amz-SignedHeaders"],
        given["X-Amz-Signature"],
        given["X-Amz-Date"],
        "UNSIGNED-PAYLOAD",
    )


def _in_header(headers: Mapping[str, str], now: datetime) -> _Signature:
    text = headers.get("Authorization", "")
    scope, listed, mark = _authorization(text)
    stamp = headers.get("x-amz-date", "")
    is_now = bool(stamp) and abs(now - _time(stamp)) <= SKEW
    if not is_now:
        raise Denied("RequestTimeTooSkewed")
    payload = headers.get("x-amz-content-sha256", "")
    return _Signature(scope, listed, mark, stamp, payload)


def _canonical(
    method: str,
    path: str,
    query: list[tuple[bytes, bytes]],
    headers: Mapping[str, str],
    signature: _Signature,
) -> str:
    """The request as both sides write it down to sign it."""
    pairs = [f"{quote(k, safe='-_.~')}={quote(v, safe='-_.~')}" for k, v in query]
    signed = []
    for name in signature.listed.split(";"):
        words = headers.get(name, "").split()
        signed.append(f"{name}:{' '.join(words)}")
    address = quote(unquote_to_bytes(path), safe="/-_.~")
    lines = [method, address, "&".join(sorted(pairs)), *signed]
    return "\n".join([*lines, "", signature.listed, signature.payload])


def _authorization(text: str) -> tuple[str, str, str]:
    method, _, rest = text.partition(" ")
    fields = {}
    for part in rest.split(","):
        name, _, value = part.strip().partition("=")
        fields[name] = value
    needed = {"Credential", "SignedHeaders", "Signature"}
    if method != "AWS4-HMAC-SHA256" or not needed <= fields.keys():
        raise Denied("AccessDenied")
    return fields["Credential"], fields["SignedHeaders"], fields["Signature"]


def _time(stamp: str) -> datetime:
    return datetime.strptime(stamp, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
