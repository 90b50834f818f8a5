"""The form of an SFTP server, and what follows from it."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from pinecart.core.form_fields import FieldType, FormField
from pinecart.core.pasting import PasteRules, percent_decoded
from pinecart.drivers.driver_spec import (
    LIMITS,
    LINKS,
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
from pinecart.drivers.sftp.host_key import wrong_with

KIND = "sftp"
PORT = 22
LABELS = (
    (("host", "key"), "host_key"),
    (("fingerprint",), "host_key"),
    (("host",), "host"),
    (("server",), "host"),
    (("address",), "host"),
    (("url",), "host"),
    (("port",), "port"),
    (("user",), "user"),
    (("username",), "user"),
    (("login",), "user"),
    (("passphrase",), "passphrase"),
    (("password",), "password"),
    (("path",), "root"),
    (("folder",), "root"),
    (("directory",), "root"),
)
_URL = re.compile(
    r"(?:sftp|ssh)://(?:(?P<user>[^:@/]+)(?::(?P<password>[^@/]*))?@)?"
    r"(?P<host>\[[0-9a-fA-F:]+\]|[^:/@\s]+)(?::(?P<port>\d+))?(?P<root>/\S*)?"
)
_COMMAND = re.compile(
    r"(?:(?:ssh|sftp)\s+)?(?:-[pP]\s*(?P<port>\d+)\s+)?"
    r"(?P<user>[\w.-]+)@(?P<host>[\w.-]+)(?::(?P<root>\S*))?(?:\s+-[pP]\s*(?P<port2>\d+))?"
)


def read_address(text: str) -> dict[str, str]:
    """An sftp:// address, user@host:path, or the command that signs in; else nothing."""
    found = _URL.fullmatch(text)
    if found is None:
        found = _COMMAND.fullmatch(text)
        is_told = found and (found["root"] is not None or text.startswith(("ssh ", "sftp ")))
        if not is_told:
            return {}
    assert found is not None
    told = {k: v for k, v in found.groupdict().items() if v}
    if "port2" in told:
        told["port"] = told.pop("port2")
    fields = {name: percent_decoded(value) for name, value in told.items()}
    fields["host"] = fields["host"].strip("[]")
    return fields


def _is_private_key(value: str) -> str:
    if "PRIVATE KEY-----" in value:
        return ""
    return "Give the private key as text, from -----BEGIN to END-----."


FIELDS = (
    HOST,
    port_field(PORT, "Of its SSH."),
    USER,
    replace(PASSWORD, is_needed=True, needed_unless="private_key"),
    FormField(
        "private_key",
        FieldType.BLOCK,
        "Private key",
        "Instead of a password: the text of a private key (OpenSSH or PEM). It is sealed here.",
        is_sealed=True,
        check=_is_private_key,
        code="store.key-malformed",
    ),
    FormField(
        "passphrase",
        FieldType.UNSEEN,
        "Passphrase",
        "Of the private key, where it has one.",
        is_sealed=True,
        is_common=False,
    ),
    FormField(
        "host_key",
        FieldType.TEXT,
        "Host key",
        "By which the server proves to be itself: a fingerprint, or the line of a public key.",
        default="what it shows as it is first tried",
        example="SHA256:…",
        check=wrong_with,
        code="store.host-key-malformed",
    ),
    root_field("where the account lands"),
    LINKS,
    READ_BACK,
    *LIMITS,
)


def _system(fields: Mapping[str, Any]) -> str:
    """Where the folder is told from where the account lands, each account has its own."""
    port = fields.get("port") or PORT
    at = f"{KIND}:{fields['host']}:{port}"
    root = str(fields.get("root") or "")
    if root.startswith("/"):
        return at
    return f"{at}:{fields['user']}"


SFTP = DriverSpec(
    kind=KIND,
    title="An SFTP server",
    fields=FIELDS,
    open=Late("pinecart.drivers.sftp.store", "SftpStore"),
    try_it=Late("pinecart.drivers.sftp.connection_check", "try_sftp"),
    system=_system,
    root=root_of,
    bound_by=("host", "port", "user", "root"),
    pasting=PasteRules(KIND, read_address, "host", LABELS, words=("sftp", "ssh")),
    guards_secret=("host", "port", "host_key"),
    keeps=frozenset({"times", "permissions"}),
    gives=frozenset({"times"}),
    cautions=(
        "Times are kept to the second.",
        "It keeps no checksums: what is written is read back over the line, unless the store says "
        "otherwise.",
        "No condition guards what is replaced or removed: it is looked at just before.",
    ),
)
