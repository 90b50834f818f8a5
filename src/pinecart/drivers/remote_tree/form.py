"""Fields that stores over files and folders of another machine have in common."""

from __future__ import annotations

from pinecart.core.form_fields import FieldType, FormField
from pinecart.drivers.driver_spec import PROOFS

READ_BACK = FormField(
    "read_back",
    FieldType.YES_NO,
    "Proof",
    "Whether what is written is read again to prove it; without, half as much goes over the line, "
    "and its size is all the proof there is.",
    choices=PROOFS,
    default="yes",
    is_common=False,
)


def _is_host(value: str) -> str:
    if "/" not in value and " " not in value and "@" not in value:
        return ""
    return f"{value!r} is no host's name: write it as files.example, or as an IP address."


HOST = FormField(
    "host",
    FieldType.ADDRESS,
    "Host",
    "The server's name or IP address.",
    is_needed=True,
    example="files.partner.example",
    check=_is_host,
    code="store.address",
)


PASSWORD = FormField(
    "password",
    FieldType.UNSEEN,
    "Password",
    "Of the account. It is sealed here and never shown.",
    is_sealed=True,
)
USER = FormField("user", FieldType.TEXT, "User", "The account there.", is_needed=True)


def port_field(usual: int, help_: str) -> FormField:
    return FormField(
        "port", FieldType.NUMBER, "Port", help_, default=str(usual), least=1, most=65535
    )


def root_field(
    default: str,
    help_: str = "The folder on the server below which all paths lie.",
    example: str = "/srv/larkfell",
) -> FormField:
    return FormField("root", FieldType.TEXT, "Folder", help_, example=example, default=default)
