"""Checks signatures, version 4, in the Authorization header and in presigned addresses, with the
clock's skew.
"""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from urllib.parse import quote, unquote_to_bytes

SKEW = timedelta(minutes=15)


class Denied(Exception):
    """code: the protocol's own error code."""

    def __init__(self, code: str) -> None:
        super().__init__(code)
        self.code = code


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
    query = [
        tuple(unquote_to_bytes(x) for x in q.partition("=")[::2])
        for q in query_text.split("&")
        if q
    ]
    given = {k.decode(): v.decode() for k, v in query if k.startswith(b"X-Amz-")}
    if "X-Amz-Signature" in given:
        scope, listed, mark = (
            given["X-Amz-Credential"],
            given["X-Amz-SignedHeaders"],
            given["X-Amz-Signature"],
        )
        stamp, payload = given["X-Amz-Date"], "UNSIGNED-PAYLOAD"
        query = [q for q in query if q[0] != b"X-Amz-Signature"]
        latest = _time(stamp) + timedelta(seconds=int(given["X-Amz-Expires"]))
        if now > latest:
            raise Denied("AccessDenied")
    else:
        scope, listed, mark = _authorization(headers.get("Authorization", ""))
        stamp, payload = headers.get("x-amz-date", ""), headers.get("x-amz-content-sha256", "")
        if not stamp or abs(now - _time(stamp)) > SKEW:
            raise Denied("RequestTimeTooSkewed")
    key_id, day, given_region, service, last = scope.rsplit("/", 4)
    if key_id not in secrets:
        raise Denied("InvalidAccessKeyId")
    if given_region != region:
        raise Denied("AuthorizationHeaderMalformed")
    canonical = "\n".join(
        [
            method,
            quote(unquote_to_bytes(path), safe="/-_.~"),
            "&".join(sorted(f"{quote(k, safe='-_.~')}={quote(v, safe='-_.~')}" for k, v in query)),
            *(f"{n}:{' '.join(headers.get(n, '').split())}" for n in listed.split(";")),
            "",
            listed,
            payload,
        ]
    )
    text = "\n".join(
        [
            "AWS4-HMAC-SHA256",
            stamp,
            "/".join((day, given_region, service, last)),
            hashlib.sha256(canonical.encode()).hexdigest(),
        ]
    )
    key = b"AWS4" + secrets[key_id].encode()
    for part in (day, given_region, service, last, text):
        key = hmac.new(key, part.encode(), hashlib.sha256).digest()
    if not hmac.compare_digest(key.hex(), mark):
        raise Denied("SignatureDoesNotMatch")
    return key_id


def _authorization(text: str) -> tuple[str, str, str]:
    method, _, rest = text.partition(" ")
    fields = dict(p.strip().partition("=")[::2] for p in rest.split(","))
    if (
        method != "AWS4-HMAC-SHA256"
        or not {"Credential", "SignedHeaders", "Signature"} <= fields.keys()
    ):
        raise Denied("AccessDenied")
    return fields["Credential"], fields["SignedHeaders"], fields["Signature"]


def _time(stamp: str) -> datetime:
    return datetime.strptime(stamp, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
