"""The form of an SMB share, and what follows from it."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from pinecart.core.form_fields import FieldType, FormField
from pinecart.core.pasting import PasteRules, percent_decoded
from pinecart.drivers.driver_spec import (
    LIMITS,
    YES_OR_NO,
    DriverSpec,
    Late,
    root_of,
)
from pinecart.drivers.remote_tree.form import (
    HOST,
    PASSWORD,
    READ_BACK,
    USER,
    port_field,
    root_field,
)
from pinecart.drivers.smb.wire import PORT

KIND = "smb"
LABELS = (
    (("share",), "share"),
    (("host",), "host"),
    (("server",), "host"),
    (("address",), "host"),
    (("path",), "share"),
    (("domain",), "domain"),
    (("workgroup",), "domain"),
    (("port",), "port"),
    (("user",), "user"),
    (("username",), "user"),
    (("password",), "password"),
)
_PLACE = (
    r"(?P<host>\[[0-9a-fA-F:]+\]|[\w.-]+)(?::(?P<port>\d+))?"
    r"[\\/](?P<share>[^\\/\s\"']+)(?P<root>[\\/][^\s\"']*)?"
)
_UNC = re.compile(r"(?:\\\\|//)" + _PLACE)
_URL = re.compile(
    r"(?:smb|cifs)://(?:(?:(?P<domain>[^;@/]+);)?(?P<user>[^:@/]+)(?::(?P<password>[^@/]*))?@)?"
    + _PLACE
)
_VALUE = r"[\s`\"']*(?P<value>[^,\s\"'`]+)"
_OPTIONS = {
    "user": re.compile(r"(?:\busername\s*[=:]|\buser\s*[=:]|/user:)" + _VALUE, re.I),
    "password": re.compile(r"(?:\bpassword\s*[=:]|\bpass\s*[=:]|/pass:)" + _VALUE, re.I),
}
_MOUNTS = re.compile(r"\b(?:mount\b.*\bcifs|net\s+use|cmdkey|New-PSDrive|mount_smbfs)\b", re.I)


def read_address(text: str) -> dict[str, str]:
    r"""Fields of `\\host\share\path`, `//host/share`, `smb://…`, or of a command that mounts a
    share; empty: it is none of those.
    """
    found = _URL.fullmatch(text) or _UNC.fullmatch(text)
    if found:
        return _domain_apart(_fields_of(found))
    return read_mounting(text)


_NET_USE = re.compile(r"\bnet\s+use\b", re.I)


def read_mounting(text: str) -> dict[str, str]:
    """A command, or a script of several lines, as a portal shows it for its share."""
    found = _UNC.search(text)
    if not found or not _MOUNTS.search(text):
        return {}
    fields = _fields_of(found)
    for name, option in _OPTIONS.items():
        told = option.search(text)
        if told:
            fields[name] = told["value"]
    if "password" not in fields and _NET_USE.search(text):
        following = text[found.end() :].split()
        plain = [word for word in following if not word.startswith(("/", "-", "*"))]
        if plain:
            fields["password"] = plain[0]
    return _domain_apart(fields)


def _fields_of(found: re.Match[str]) -> dict[str, str]:
    """Of an address; in a URL its parts are percent-encoded."""
    is_url = found[0].startswith(("smb:", "cifs:"))
    fields = {}
    for name, value in found.groupdict().items():
        if value:
            if is_url:
                fields[name] = percent_decoded(value)
            else:
                fields[name] = value
    fields["host"] = fields["host"].strip("[]")
    if "root" in fields:
        root = fields["root"].replace("\\", "/")
        fields["root"] = root.strip("/")
    return {name: value for name, value in fields.items() if value}


def _domain_apart(fields: dict[str, str]) -> dict[str, str]:
    r"""`DOMAIN\user` is both."""
    domain, slash, user = fields.get("user", "").replace("/", "\\").partition("\\")
    if slash:
        return fields | {"domain": domain, "user": user}
    return fields


def _is_share(value: str) -> str:
    if not re.search(r"[\\/:]", value):
        return ""
    return f"{value!r} is no share's name: what comes after it goes to the folder."


FIELDS = (
    HOST,
    port_field(PORT, "Of its SMB."),
    FormField(
        "share",
        FieldType.TEXT,
        "Share",
        "Its name on the server.",
        is_needed=True,
        example="larkfell",
        check=_is_share,
        code="store.share",
    ),
    root_field("the share itself", "The folder on the share below which all paths lie.", "in/2026"),
    USER,
    replace(PASSWORD, is_needed=True),
    FormField(
        "domain",
        FieldType.TEXT,
        "Domain",
        "That the account belongs to, where it has one.",
        is_common=False,
    ),
    FormField(
        "encrypt",
        FieldType.YES_NO,
        "Encryption",
        "Whether all that goes over the line is encrypted; each message is signed in any case.",
        choices=YES_OR_NO,
        default="no",
    ),
    READ_BACK,
    *LIMITS,
)


def _system(fields: Mapping[str, Any]) -> str:
    at = f"{KIND}:{fields['host']}:{fields.get('port') or PORT}".lower()
    return f"{at}/{str(fields.get('share') or '').lower()}"


def _root(fields: Mapping[str, Any]) -> bytes:
    return root_of({"root": str(fields.get("root") or "").replace("\\", "/")})


SMB = DriverSpec(
    kind=KIND,
    title="An SMB share",
    fields=FIELDS,
    open=Late("pinecart.drivers.smb.store", "SmbStore"),
    try_it=Late("pinecart.drivers.smb.connection_check", "try_smb"),
    system=_system,
    root=_root,
    bound_by=("host", "port", "share", "user", "root"),
    pasting=PasteRules(
        KIND, read_address, "share", LABELS, words=("smb", "cifs", "share"), script=read_mounting
    ),
    guards_secret=("host", "port", "domain", "encrypt"),
    keeps=frozenset({"times", "attributes"}),
    gives=frozenset({"times", "attributes"}),
    cautions=(
        "Of attributes it keeps that a file is hidden, or of the system; others are listed as not "
        "kept.",
        'Names with any of \\ : * ? " < > | or a dot or blank at their end are refused, and '
        "listed.",
        "It keeps no checksums: what is written is read back over the line, unless the store says "
        "otherwise.",
        "No condition guards what is replaced or removed: it is looked at just before.",
    ),
)
