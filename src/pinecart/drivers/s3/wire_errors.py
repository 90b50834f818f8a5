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
from pinecart.drivers.http_refusals import Meaning, refusal
from pinecart.drivers.s3.wire import region_told
from pinecart.drivers.xml_answers import CONTROLS, local_name, tree_of

_MISSING: Meaning = (Missing, "store.missing", "There is no such file.")
_MAY_NOT: Meaning = (
    Refused,
    "store.refused",
    "This key may not do that. Grant it the right, or use another key.",
)
_CLOCK: Meaning = (
    Refused,
    "store.clock",
    "This machine's clock differs too much from the store's. Set the clock.",
)
_TAKEN: Meaning = (Taken, "store.not-as-planned", "What is there is not as planned.")
_CONFLICT: Meaning = (Busy, "store.busy", "Another write to the same name is under way.")
_SLOWER: Meaning = (Busy, "store.busy", "The store asks to go slower.")
_LATE: Meaning = (Busy, "store.busy", "The store did not receive the request in time.")
_CUT: Meaning = (Busy, "store.busy", "The store did not receive the whole request.")
_CORRUPT: Meaning = (Corrupt, "store.corrupt", "The bytes did not arrive as they were sent.")
_UNKNOWN: Meaning = (Refused, "store.unsupported", "The store does not know this request.")
_FULL: Meaning = (Refused, "store.full", "The store is full, or the quota used up. Make room.")
_TOKEN: Meaning = (
    SignInRefused,
    "store.session-token",
    "The session token is missing or not right. Give key, secret and token again.",
)

_BY_CODE: dict[str, Meaning] = {
    "NoSuchVersion": (Missing, "store.missing", "There is no such version."),
    "NoSuchKey": _MISSING,
    "NoSuchBucket": (
        Missing,
        "store.no-bucket",
        "There is no such bucket. Check its name, or make it first.",
    ),
    # whoever aborts it meanwhile, a rule of the bucket or a person: it is begun anew
    "NoSuchUpload": (Busy, "store.busy", "Its unfinished parts were taken away by somebody."),
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
    "InvalidToken": _TOKEN,
    "TokenRefreshRequired": _TOKEN,
    "ExpiredToken": (SignInRefused, "store.key-expired", "The key has expired. Give a new one."),
    "RequestTimeTooSkewed": _CLOCK,
    "RequestExpired": _CLOCK,
    "AccessDenied": _MAY_NOT,
    "InvalidObjectState": (
        Refused,
        "store.archived",
        "It lies in an archive class. Have it restored first.",
    ),
    "QuotaExceeded": _FULL,
    "PreconditionFailed": _TAKEN,
    "ConditionalRequestConflict": _CONFLICT,
    "OperationAborted": _CONFLICT,
    "BadDigest": (
        Corrupt,
        "store.corrupt",
        "The store found that the bytes did not arrive as they were sent.",
    ),
    "XAmzContentChecksumMismatch": _CORRUPT,
    "XAmzContentSHA256Mismatch": _CORRUPT,
    "NotImplemented": _UNKNOWN,
    "SlowDown": _SLOWER,
    "Throttling": _SLOWER,
    "ThrottlingException": _SLOWER,
    "RequestLimitExceeded": _SLOWER,
    "RequestTimeout": _LATE,
    "RequestTimeoutException": _LATE,
    "IncompleteBody": _CUT,
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
# where no code is told, or one that isn't known
_BY_STATUS: dict[int, Meaning] = {
    403: _MAY_NOT,
    404: _MISSING,
    408: _LATE,
    409: _CONFLICT,
    412: _TAKEN,
    429: _SLOWER,
    501: _UNKNOWN,
    503: _SLOWER,
    507: _FULL,
}


def _of_another_region(
    status: int, headers: Mapping[str, str], body: bytes, what: str
) -> StoreError:
    """With the region to set, where the answer tells it: in a header, or somewhere in its body."""
    region = region_told(status, headers, body)
    if not region:
        region = "another region"
    message = f"{what}: the right region is {region}. Set the store's region to it."
    return Refused(message, code="store.region", status=status, region=region)


def error_from(status: int, headers: Mapping[str, str], body: bytes, *, what: str) -> StoreError:
    """The store's refusal as one of our errors. what: location and action, for the message."""
    if body:
        code, words = _their_words(body)
    else:
        code = ""
        words = ""
    if status in (301, 307, 308) or code == "AuthorizationHeaderMalformed":
        return _of_another_region(status, headers, body, what)
    meaning = _BY_CODE.get(code) or _BY_STATUS.get(status)
    said = ": ".join(part for part in dict.fromkeys((code, words)) if part)
    return refusal(meaning, status, headers, what=what, said=said)


def _their_words(body: bytes) -> tuple[str, str]:
    """Code and message of a refusal, as far as it tells them."""
    try:
        tree = tree_of(CONTROLS.sub(b"?", body))
    except Busy:
        return "", "(an answer that is no XML)"
    fields = {local_name(node.tag): node.text or "" for node in tree.iter()}
    return fields.get("Code", ""), fields.get("Message", "")
