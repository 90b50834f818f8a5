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


def root_field(default: str) -> FormField:
    return FormField(
        "root",
        FieldType.TEXT,
        "Folder",
        "The folder on the server below which all paths lie.",
        example="/srv/larkfell",
        default=default,
    )
