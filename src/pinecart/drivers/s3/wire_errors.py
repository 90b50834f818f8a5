"""What a bucket server's error answers mean, as errors of ours."""

from __future__ import annotations

from collections.abc import Mapping

from pinecart.core.errors import (
    Busy,
    Corrupt,
    Missing,
    Refused,
    SignInRefused,
    StoreError,
    Taken,
)
from pinecart.drivers.http_message import wait_told
from pinecart.drivers.s3.wire import region_told
from pinecart.drivers.xml_answers import CONTROLS, local_name, tree_of
from pinecart.json_object import JsonObject

_BY_CODE: dict[str, tuple[type[StoreError], str, str]] = {
    "NoSuchVersion": (Missing, "store.missing", "There is no such version."),
    "NoSuchKey": (Missing, "store.missing", "There is no such file."),
    "NoSuchBucket": (
        Missing,
        "store.no-bucket",
        "There is no such bucket. Check its name, or make it first.",
    ),
    "InvalidAccessKeyId": (
        SignInRefused,
        "store.key-unknown",
        "The store does not know this key id. Check it, or give a new key.",
    ),
    "SignatureDoesNotMatch": (
        SignInRefused,
        "store.secret-wrong",
        "The secret does not belong to this key id. Give both again.",
    ),
    "InvalidToken": (
        SignInRefused,
        "store.session-token",
        "The session token is missing or not right. Give key, secret and token again.",
    ),
    "ExpiredToken": (SignInRefused, "store.key-expired", "The key has expired. Give a new one."),
    "RequestTimeTooSkewed": (
        Refused,
        "store.clock",
        "This machine's clock differs too much from the store's. Set the clock.",
    ),
    "AccessDenied": (
        Refused,
        "store.refused",
        "This key may not do that. Grant it the right, or use another key.",
    ),
    "PreconditionFailed": (Taken, "store.not-as-planned", "What is there is not as planned."),
    "ConditionalRequestConflict": (
        Busy,
        "store.busy",
        "Another write to the same name is under way.",
    ),
    "BadDigest": (
        Corrupt,
        "store.corrupt",
        "The store found that the bytes did not arrive as they were sent.",
    ),
    "XAmzContentChecksumMismatch": (
        Corrupt,
        "store.corrupt",
        "The bytes did not arrive as they were sent.",
    ),
    "XAmzContentSHA256Mismatch": (
        Corrupt,
        "store.corrupt",
        "The bytes did not arrive as they were sent.",
    ),
    "NotImplemented": (Refused, "store.unsupported", "The store does not know this request."),
    "SlowDown": (Busy, "store.busy", "The store asks to go slower."),
    "RequestTimeout": (Busy, "store.busy", "The store did not receive the request in time."),
    "RequestTimeoutException": (
        Busy,
        "store.busy",
        "The store did not receive the request in time.",
    ),
    "EntityTooLarge": (
        Refused,
        "store.too-large",
        "The file is larger than this store takes in one piece.",
    ),
    "BucketAlreadyExists": (
        Refused,
        "bucket.taken",
        "The name is taken by somebody else. Choose another.",
    ),
    "BucketNotEmpty": (
        Refused,
        "bucket.not-empty",
        "The bucket is not empty. Only an empty one is dropped.",
    ),
    "InvalidBucketName": (Refused, "bucket.name", "The store does not allow this bucket name."),
}
_BY_STATUS = {
    400: "InvalidRequest",
    403: "AccessDenied",
    404: "NoSuchKey",
    409: "ConditionalRequestConflict",
    412: "PreconditionFailed",
    429: "SlowDown",
    501: "NotImplemented",
    503: "SlowDown",
}


def _said(code: str, words: str) -> str:
    short = words[:200].strip()
    parts = [part for part in (code, short) if part]
    if not parts:
        return ", without a word"
    told = ": ".join(parts)
    return f" {told}"


def _of_another_region(
    status: int, headers: Mapping[str, str], body: bytes, what: str
) -> StoreError:
    region = region_told(status, headers, body)
    if not region:
        region = "another region"
    message = f"{what}: the right region is {region}. Set the store's region to it."
    return Refused(message, code="store.region", status=status, region=region)


def error_from(status: int, headers: Mapping[str, str], body: bytes, *, what: str) -> StoreError:
    """The store's refusal as one of our errors. what: location and action, for the message."""
    their_code, their_words = _their_words(body) if body else ("", "")
    if not their_code:
        their_code = _BY_STATUS.get(status, "")
    if status in (301, 307, 308) or their_code == "AuthorizationHeaderMalformed":
        return _of_another_region(status, headers, body, what)
    kind, code, words = _BY_CODE.get(their_code, (None, "", ""))
    facts: JsonObject = {"status": status, "their_code": their_code}
    if kind is Busy or (kind is None and status >= 500):
        if not words:
            words = "The store has a fault on its side"
        message = f"{what}: {words} ({status} {their_code})."
        wait_s = wait_told(headers.get("Retry-After", ""))
        return Busy(message, wait_s=wait_s, **facts)
    if kind is None:
        said = _said(their_code, their_words)
        message = f"{what}: the store refused ({status}{said})."
        return Refused(message, **facts)
    message = f"{what}: {words} ({their_code})"
    return kind(message, code=code, **facts)


def _their_words(body: bytes) -> tuple[str, str]:
    """Code and message of a refusal, as far as it tells them."""
    try:
        tree = tree_of(CONTROLS.sub(b"?", body))
    except Busy:
        return "", "(an answer that is no XML)"
    fields = {local_name(node.tag): node.text or "" for node in tree.iter()}
    return fields.get("Code", ""), fields.get("Message", "")
