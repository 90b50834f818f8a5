"""The form of a Swift account, and what follows from it.

What can go wrong with it, each with a test:
- a user, key or token that is not accepted, or no longer; files on another machine;
- a store that takes no notice of a checksum or of a condition;
- a listing that goes round in circles, is cut or is no JSON;
- an upload that was cut at any step, whose segments lie there; a large object that is replaced or
  removed, whose segments would stay; one whose segments are somebody else's;
- a copy of a manifest, which loses its bytes with its source;
- a container that keeps versions, whose segments must stay.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import urlsplit

from pinecart.core.form_fields import FieldType, FormField
from pinecart.core.keeping import KEPT
from pinecart.core.pasting import PasteRules
from pinecart.drivers.bucketed.connection_check import BucketCheck
from pinecart.drivers.driver_spec import (
    HTTP_LINE,
    LIMITS,
    PRICES,
    DriverSpec,
    confined_to,
    http_parts,
    root_of,
)
from pinecart.drivers.swift.store import SwiftStore

KIND = "swift"
LABELS = (
    (("auth", "url"), "auth_url"),
    (("auth",), "auth_url"),
    (("storage", "url"), "storage_url"),
    (("token",), "token"),
    (("user",), "user"),
    (("key",), "key"),
    (("password",), "key"),
    (("container",), "root"),
    (("endpoint",), "auth_url"),
    (("url",), "auth_url"),
)
_SIGN_IN = re.compile(r"https?://[^@/?#\s]+/(?:[^?#\s]*/)?auth/v1(?:\.0)?/?")


def read_address(text: str) -> dict[str, str]:
    """Of a sign-in, as such servers have it."""
    if _SIGN_IN.fullmatch(text):
        return {"auth_url": text}
    return {}


def read_script(text: str) -> dict[str, str]:
    """The headers of a request that signs in, in a shell command or as they were sent."""
    told = {
        name.lower(): value
        for name, value in re.findall(
            r"(?i)x-(auth-user|auth-key|auth-token)\s*:\s*([^\s\"']+)", text
        )
    }
    address = next((word for word in re.split(r"[\s\"']+", text) if read_address(word)), "")
    fields = {
        "auth_url": address,
        "user": told.get("auth-user", ""),
        "key": told.get("auth-key", ""),
        "token": told.get("auth-token", ""),
    }
    found = {field: value for field, value in fields.items() if value}
    if told:
        return found
    return {}


def _is_url(value: str) -> str:
    if http_parts(value):
        return ""
    return f"{value!r} is no address: write it as https://HOST/PATH."


FIELDS = (
    FormField(
        "auth_url",
        FieldType.ADDRESS,
        "Sign-in address",
        "Where user and key are given for a token: https://HOST/auth/v1.0.",
        is_needed=True,
        needed_unless="token",
        example="https://swift.partner.example/auth/v1.0",
        check=_is_url,
        code="store.address",
    ),
    FormField(
        "user",
        FieldType.TEXT,
        "User",
        "As ACCOUNT:USER.",
        is_needed=True,
        needed_unless="token",
        example="larkfell:carrier",
    ),
    FormField(
        "key",
        FieldType.UNSEEN,
        "Key",
        "The user's key, or password. It is sealed here and never shown.",
        is_needed=True,
        needed_unless="token",
        is_sealed=True,
    ),
    FormField(
        "token",
        FieldType.UNSEEN,
        "Token",
        "Instead of a user and a key; with the storage address. It is sealed here and never shown.",
        is_sealed=True,
        is_common=False,
    ),
    FormField(
        "storage_url",
        FieldType.ADDRESS,
        "Storage address",
        "Of the account's files, where that is another machine, or with a token.",
        default="as the sign-in tells it, on the same machine",
        check=_is_url,
        code="store.address",
        is_common=False,
    ),
    confined_to("container", "account"),
    *HTTP_LINE,
    *LIMITS,
    *PRICES,
)


def _address(fields: Mapping[str, Any]) -> str:
    return str(fields.get("storage_url") or fields.get("auth_url") or "")


def _system(fields: Mapping[str, Any]) -> str:
    """The account is part of the user, or of the storage address."""
    parts = urlsplit(_address(fields))
    user = str(fields.get("user") or "")
    account = user.partition(":")[0]
    if not account:
        account = parts.path.rstrip("/")
    host = parts.netloc.lower()
    return f"{KIND}:{host}/{account}"


def _let_in(spec: Mapping[str, Any]) -> str:
    if spec.get("token"):
        return "The token is accepted."
    return f"User {spec.get('user')} is let in, and has got a token."


SWIFT = DriverSpec(
    kind=KIND,
    title="An OpenStack Swift account",
    fields=FIELDS,
    open=SwiftStore,
    try_it=BucketCheck(SwiftStore, _address, _let_in, "container"),
    system=_system,
    root=root_of,
    bound_by=("auth_url", "storage_url", "user", "root"),
    pasting=PasteRules(
        KIND, read_address, "auth_url", LABELS, words=("swift", "auth/v1"), script=read_script
    ),
    guards_secret=("auth_url", "storage_url", "user", "proxy", "certificate"),
    shows_buckets=lambda fields: not fields.get("root"),
    keeps=frozenset(KEPT) - {"tags", "storage-class"},
    gives=frozenset({"metadata"}),
    cautions=(
        "No condition guards what is replaced or removed there: it is looked at just before.",
        "A file above 8 MiB becomes segments in a container of the same name with _segments.",
    ),
)
