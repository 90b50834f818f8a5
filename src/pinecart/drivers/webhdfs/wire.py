"""What goes over the line, as pure functions (WebHDFS REST API of Apache Hadoop 3)."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote, quote_from_bytes

from pinecart.core.errors import Busy, Missing, Refused, SignInRefused, StoreError, Taken
from pinecart.core.ports import OwnSum
from pinecart.drivers.http_refusals import Meaning, refusal
from pinecart.drivers.remote_tree.remote_files import FileKind, FileLook

MS_NS = 1_000_000
_OF_BLOCKS = re.compile(r"MD5-of-\d+MD5-of-[1-9]\d*CRC32C?")
_KINDS = {"FILE": FileKind.FILE, "DIRECTORY": FileKind.FOLDER}
_BY_NAME: dict[str, Meaning] = {
    "FileNotFoundException": (Missing, "store.missing", "There is no such file or folder."),
    "FileAlreadyExistsException": (Taken, "store.not-as-planned", "Something is there."),
    "ParentNotDirectoryException": (Missing, "store.missing", "What it lies in is no folder."),
    "PathIsNotEmptyDirectoryException": (Refused, "store.not-empty", "The folder isn't empty."),
    "AccessControlException": (
        Refused,
        "store.refused",
        "The account may not do that. Grant it the right.",
    ),
    "SecurityException": (
        SignInRefused,
        "store.sign-in-refused",
        "The user or the token is not accepted.",
    ),
    "InvalidToken": (SignInRefused, "store.key-expired", "The token has expired. Give a new one."),
    "SafeModeException": (Busy, "store.busy", "The file system is starting: it takes no writes."),
    "StandbyException": (Busy, "store.busy", "This name node stands by for another one."),
    "RetriableException": (Busy, "store.busy", "The server asks to try again."),
    "LeaseExpiredException": (Busy, "store.busy", "The write was given up by the server."),
    "AlreadyBeingCreatedException": (Busy, "in-use", "Somebody is writing it."),
    "RecoveryInProgressException": (Busy, "in-use", "It is being recovered."),
    "NSQuotaExceededException": (Refused, "store.full", "The quota of names is used up."),
    "DSQuotaExceededException": (Refused, "store.full", "The quota of room is used up."),
    "InvalidPathException": (Refused, "unsafe-name", "It can't hold this name."),
    "PathComponentTooLongException": (Refused, "unsafe-name", "The name is too long for it."),
    "MaxDirectoryItemsExceededException": (Refused, "store.full", "The folder takes no more."),
    "UnsupportedOperationException": (Refused, "store.unsupported", "It does not do that."),
}
_BY_STATUS: dict[int, Meaning] = {
    401: (SignInRefused, "store.sign-in-refused", "The user or the token is not accepted."),
    403: _BY_NAME["AccessControlException"],
    404: _BY_NAME["FileNotFoundException"],
    429: (Busy, "store.busy", "The server asks to go slower."),
    501: _BY_NAME["UnsupportedOperationException"],
}


def target(root: bytes, path: bytes, op: str, who: Mapping[str, str], **more: Any) -> str:
    """Path and query of a request to the name node. root: without a slash at its end."""
    whole = root or b"/"
    if path:
        whole = root + b"/" + path
    quoted = quote_from_bytes(whole, safe="/-_.~")
    pairs = []
    for name, value in {"op": op, **who, **more}.items():
        told = quote(str(value), safe="-_.~")
        pairs.append(f"{name}={told}")
    query = "&".join(pairs)
    return f"/webhdfs/v1{quoted}?{query}"


def look_of(told: Mapping[str, Any]) -> FileLook:
    """Of a FileStatus. Raises KeyError, ValueError, TypeError for what is none."""
    kind = _KINDS.get(told["type"], FileKind.OTHER)
    if kind is not FileKind.FILE:
        return FileLook(kind)
    size = int(told["length"])
    modified_ns = int(told["modificationTime"]) * MS_NS
    octal = told.get("permission")
    mode = int(octal, 8) & 0o777 if octal else None
    return FileLook(kind, size, modified_ns, mode)


def name_of(told: Mapping[str, Any]) -> bytes:
    name: str = told["pathSuffix"]
    return name.encode("utf-8", "surrogateescape")


def sum_of(told: Mapping[str, Any]) -> OwnSum | None:
    """Of a FileChecksum. None unless it is made of the CRCs of pieces, block by block: one of no
    CRCs would be the same for all files. Raises KeyError, ValueError, TypeError for what is none.
    """
    made = str(told["algorithm"])
    value = bytes.fromhex(told["bytes"]).hex()
    if _OF_BLOCKS.fullmatch(made) and value:
        return OwnSum(made, value)
    return None


def json_of(body: bytes) -> dict[str, Any]:
    """Raises Busy for what is cut or garbled."""
    try:
        found = json.loads(body)
    except ValueError as exc:
        raise Busy("The server's answer was cut or is no JSON.", code="store.cut") from exc
    if not isinstance(found, dict):
        raise Busy("The server's answer is not what it should be.", code="store.garbled")
    return found


def error_from(status: int, headers: Mapping[str, str], body: bytes, *, what: str) -> StoreError:
    """what: location and action, for the message."""
    name, words = _their_words(body)
    meaning = _BY_NAME.get(name)
    if not meaning:
        meaning = _BY_STATUS.get(status)
    said = name if meaning else f"{name} {words}"
    return refusal(meaning, status, headers, what=what, said=said)


def _their_words(body: bytes) -> tuple[str, str]:
    """Exception and message of a refusal, as far as it tells them."""
    try:
        told = json.loads(body)["RemoteException"]
        return str(told.get("exception", "")), str(told.get("message", "")).split("\n")[0]
    except (ValueError, KeyError, TypeError, AttributeError):
        return "", ""
