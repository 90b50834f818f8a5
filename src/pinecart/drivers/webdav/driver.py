"""The form of a WebDAV server, and what follows from it."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import urlsplit

from pinecart.core.form_fields import Choice, FieldType, FormField
from pinecart.core.pasting import PasteRules, percent_decoded
from pinecart.drivers.driver_spec import (
    HTTP_LINE,
    LIMITS,
    DriverSpec,
    as_prefix,
    http_parts,
)
from pinecart.drivers.remote_tree.form import PASSWORD, READ_BACK
from pinecart.drivers.webdav.connection_check import try_webdav
from pinecart.drivers.webdav.store import DavStore
from pinecart.drivers.webdav.wire import path_of

KIND = "webdav"
LABELS = (
    (("token",), "token"),
    (("url",), "url"),
    (("address",), "url"),
    (("server",), "url"),
    (("endpoint",), "url"),
    (("user",), "user"),
    (("username",), "user"),
    (("login",), "user"),
    (("password",), "password"),
)
_URL = re.compile(
    r"(?P<scheme>https?|davs?|webdavs?)://(?:(?P<user>[^:@/]+)(?::(?P<password>[^@/]*))?@)?"
    r"(?P<rest>[^@\s]+)"
)
_ALIKE = {"dav": "http", "webdav": "http", "davs": "https", "webdavs": "https"}


def read_address(text: str) -> dict[str, str]:
    """A davs:// or dav:// address, as file managers have it; https:// among other lines."""
    found = _URL.fullmatch(text)
    if not found or found["scheme"] not in _ALIKE:
        return {}
    return _fields_of(found)


def _read_any(text: str) -> dict[str, str]:
    found = _URL.fullmatch(text)
    if found:
        return _fields_of(found)
    return {}


def _fields_of(found: re.Match[str]) -> dict[str, str]:
    """What an address as it was pasted tells: its user and password go into fields of their own,
    and don't stay in the address.
    """
    told = found["scheme"]
    scheme = _ALIKE.get(told, told)
    fields = {"url": f"{scheme}://{found['rest']}"}
    for name in ("user", "password"):
        value = found[name]
        if value:
            fields[name] = percent_decoded(value)
    return fields


def _is_url(value: str) -> str:
    if http_parts(value) and "%2f" not in value.lower():
        return ""
    return f"{value!r} is no address: write it as https://HOST/FOLDER."


FIELDS = (
    FormField(
        "url",
        FieldType.ADDRESS,
        "Address",
        "Of the folder on the server below which all paths lie.",
        is_needed=True,
        example="https://dav.partner.example/larkfell",
        check=_is_url,
        code="store.address",
    ),
    FormField("user", FieldType.TEXT, "User", "The account there; empty: everybody is let in."),
    PASSWORD,
    FormField(
        "token",
        FieldType.UNSEEN,
        "Token",
        "Instead of a user and a password. It is sealed here and never shown.",
        is_sealed=True,
    ),
    FormField(
        "sign_in_by",
        FieldType.CHOICE,
        "Signing in",
        "A digest proves that it is known without sending it.",
        choices=(
            Choice("digest", "By a digest only"),
            Choice("basic", "It is sent with each request"),
        ),
        default="what the server asks for as it is first tried",
        is_common=False,
    ),
    READ_BACK,
    *HTTP_LINE,
    *LIMITS,
)


def _system(fields: Mapping[str, Any]) -> str:
    parts = urlsplit(str(fields.get("url") or ""))
    return f"{KIND}:{parts.scheme}://{parts.netloc.lower()}"


def _root(fields: Mapping[str, Any]) -> bytes:
    """The path of the address, so that two stores whose folders are one or lie in one another are
    known to.
    """
    root = path_of(urlsplit(str(fields.get("url") or "")).path)
    return as_prefix(root.strip(b"/"))


WEBDAV = DriverSpec(
    kind=KIND,
    title="A WebDAV server",
    fields=FIELDS,
    open=DavStore,
    try_it=try_webdav,
    system=_system,
    root=_root,
    bound_by=("url", "user"),
    pasting=PasteRules(KIND, read_address, "url", LABELS, words=("webdav", "dav")),
    guards_secret=("url", "sign_in_by", "proxy", "certificate"),
    gives=frozenset({"times"}),
    places=_read_any,
    cautions=(
        "It keeps no times of ours: what nobody remembers copying is copied again, unless the job "
        "compares checksums.",
        "It keeps no checksums: what is written is read back over the line, unless the store says "
        "otherwise.",
        "Where its ETags can't be relied on, no condition guards what is replaced or removed: it "
        "is looked at just before.",
    ),
)
