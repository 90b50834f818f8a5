"""What a blob service's refusals mean, as errors of ours (blob service REST, error codes)."""

from __future__ import annotations

from collections.abc import Mapping

from pinecart.core.errors import (
    Busy,
    Corrupt,
    Halting,
    Missing,
    Refused,
    SignInRefused,
    StoreError,
    Taken,
)
from pinecart.drivers.http_refusals import Meaning, refusal
from pinecart.drivers.xml_answers import CONTROLS, local_name, tree_of

_NO_BLOB: Meaning = (Missing, "store.missing", "There is no such file.")
_NO_BUCKET: Meaning = (
    Missing,
    "store.no-bucket",
    "There is no such container. Check its name, or make it first.",
)
_NOT_LET_IN: Meaning = (
    SignInRefused,
    "store.secret-wrong",
    "The account's key, or the signature, is not accepted. Give it again.",
)
_MAY_NOT: Meaning = (
    Refused,
    "store.refused",
    "These credentials may not do that. Grant them the right, or use others.",
)
_TAKEN: Meaning = (Taken, "store.not-as-planned", "What is there is not as planned.")
_IN_USE: Meaning = (Busy, "in-use", "Somebody holds it by a lease, or is writing it.")
_CORRUPT: Meaning = (Corrupt, "store.corrupt", "The bytes did not arrive as they were sent.")
_NAME: Meaning = (Refused, "unsafe-name", "The storage takes no such name.")
_UNKNOWN: Meaning = (Refused, "store.unsupported", "The storage does not know this request.")
_BUSY: Meaning = (Busy, "store.busy", "The storage asks to go slower, or has a fault.")

_BY_CODE: dict[str, Meaning] = {
    "BlobNotFound": _NO_BLOB,
    "ResourceNotFound": _NO_BLOB,
    "ContainerNotFound": _NO_BUCKET,
    "AuthenticationFailed": _NOT_LET_IN,
    "InvalidAuthenticationInfo": _NOT_LET_IN,
    "NoAuthenticationInformation": _NOT_LET_IN,
    "KeyBasedAuthenticationNotPermitted": (
        SignInRefused,
        "store.secret-wrong",
        "This account lets nobody in by its key. Give a shared access signature.",
    ),
    "AccountIsDisabled": (Halting, "store.refused", "The account is switched off."),
    "AuthorizationFailure": _MAY_NOT,
    "AuthorizationPermissionMismatch": _MAY_NOT,
    "AuthorizationProtocolMismatch": _MAY_NOT,
    "AuthorizationResourceTypeMismatch": _MAY_NOT,
    "AuthorizationServiceMismatch": _MAY_NOT,
    "AuthorizationSourceIPMismatch": _MAY_NOT,
    "InsufficientAccountPermissions": _MAY_NOT,
    "UnauthorizedBlobOverwrite": _TAKEN,
    "ConditionNotMet": _TAKEN,
    "TargetConditionNotMet": _TAKEN,
    "SourceConditionNotMet": _TAKEN,
    "BlobAlreadyExists": _TAKEN,
    "LeaseIdMissing": _IN_USE,
    "LeaseIdMismatchWithBlobOperation": _IN_USE,
    "LeaseAlreadyPresent": _IN_USE,
    "PendingCopyOperation": _IN_USE,
    "InvalidBlobOrBlock": (
        Busy,
        "in-use",
        "Parts of somebody else's unfinished upload lie under this name. The storage drops them "
        "within a week.",
    ),
    "InvalidBlockList": (Busy, "store.busy", "Another write to the same name was under way."),
    "InvalidBlockId": (Busy, "in-use", "Somebody else's unfinished upload has this name."),
    "BlockListTooLong": (Refused, "store.too-large", "It has more parts than the storage takes."),
    "RequestBodyTooLarge": (Refused, "store.too-large", "The storage takes no part so large."),
    "SnapshotsPresent": (
        Refused,
        "store.has-snapshots",
        "It has snapshots, which would go with it. Take them away first.",
    ),
    "BlobImmutableDueToPolicy": (
        Refused,
        "store.immutable",
        "A policy of its container keeps it from being changed.",
    ),
    "BlobArchived": (
        Refused,
        "store.archived",
        "It lies in the archive. Bring it back to another tier first.",
    ),
    "BlobBeingRehydrated": (Busy, "store.busy", "It is on its way back from the archive."),
    "InvalidBlobType": (
        Refused,
        "store.blob-type",
        "There lies a blob of another type (page or append), which is not replaced so.",
    ),
    "ContainerBeingDeleted": (Busy, "store.busy", "A container of this name is being deleted."),
    "Md5Mismatch": _CORRUPT,
    "Crc64Mismatch": _CORRUPT,
    "InvalidResourceName": _NAME,
    "InvalidUri": _NAME,
    "OutOfRangeInput": _NAME,
    "FeatureNotSupported": _UNKNOWN,
    "UnsupportedHeader": _UNKNOWN,
    "ServerBusy": _BUSY,
    "OperationTimedOut": _BUSY,
    "InternalError": _BUSY,
    "MetadataTooLarge": (
        Refused,
        "store.metadata",
        "Its metadata are more than the storage keeps.",
    ),
}
_BY_STATUS: dict[int, Meaning] = {
    401: _NOT_LET_IN,
    403: _MAY_NOT,
    404: _NO_BLOB,
    412: _TAKEN,
    413: _BY_CODE["RequestBodyTooLarge"],
    429: _BUSY,
    501: _UNKNOWN,
    503: _BUSY,
}
# what is told only in words, below a code that means other things as well
_BY_WORDS: tuple[tuple[str, Meaning], ...] = (
    ("md5 doesn't match", _CORRUPT),
    ("time frame", (SignInRefused, "store.key-expired", "The signature has expired.")),
    (
        "date header",
        (Refused, "store.clock", "This machine's clock differs too much. Set the clock."),
    ),
    ("failed to authenticate", _NOT_LET_IN),
)


def _by_words(words: str) -> Meaning | None:
    """Where the code alone doesn't tell."""
    low = words.lower()
    for said, meaning in _BY_WORDS:
        if said in low:
            return meaning
    return None


def error_from(status: int, headers: Mapping[str, str], body: bytes, *, what: str) -> StoreError:
    """what: location and action, for the message."""
    code, words = _told(headers, body)
    meaning = _by_words(words)
    if not meaning:
        meaning = _BY_CODE.get(code) or _BY_STATUS.get(status)
    said = code or words
    return refusal(meaning, status, headers, what=what, said=said)


def code_of(headers: Mapping[str, str], body: bytes) -> str:
    """The storage's own word for a refusal; empty: none is told."""
    return _told(headers, body)[0]


def _told(headers: Mapping[str, str], body: bytes) -> tuple[str, str]:
    """Code and words."""
    code = headers.get("x-ms-error-code", "")
    if not body.lstrip(b"\xef\xbb\xbf \r\n").startswith(b"<"):
        return code, ""
    try:
        tree = tree_of(CONTROLS.sub(b"?", body))
    except Busy:
        return code, ""
    texts = [(local_name(node.tag), node.text or "") for node in tree.iter()]
    words = " ".join(
        text for name, text in texts if name in ("Message", "AuthenticationErrorDetail")
    )
    return code or dict(texts).get("Code", ""), words
