"""What goes with a file besides its bytes: permissions, extended attributes, tags, storage class;
each by choice.

A bucket keeps permissions and attributes as user metadata (`pinecart-mode`, `pinecart-attributes`),
a folder has them itself.
"""

from __future__ import annotations

import base64
import binascii
import json
from collections.abc import Mapping
from typing import NamedTuple

from pinecart.core.errors import Refused

CHOICES = ("permissions", "attributes", "tags")
MODE = "pinecart-mode"
ATTRIBUTES = "pinecart-attributes"
LINK = "pinecart-link"
MOST_BYTES = 1500  # of attributes: user metadata of an object may have 2 KiB in all (S3 API)


# What a file may have besides its bytes, in words. The first two go along wherever they can, the
# others by choice.
KEPT = {
    "times": "the times of files",
    "metadata": "the type and the metadata of objects",
    "permissions": "permissions",
    "attributes": "extended attributes, and marks of a share",
    "tags": "tags",
    "storage-class": "storage class",
}


class Keep(NamedTuple):
    """What a job keeps. storage_class: of what it writes to a bucket; empty: the bucket's own."""

    permissions: bool = False
    attributes: bool = False
    tags: bool = False
    storage_class: str = ""

    @property
    def wanted(self) -> set[str]:
        """What of KEPT is chosen."""
        chosen = {name for name in CHOICES if getattr(self, name)}
        if self.storage_class:
            return chosen | {"storage-class"}
        return chosen


class Extra(NamedTuple):
    """What one object has.

    mode: permission bits; None: not told.   attributes: name → value.   link: its bytes are a
    link's text.
    """

    mode: int | None = None
    attributes: Mapping[str, bytes] = {}
    tags: Mapping[str, str] = {}
    storage_class: str = ""
    link: bool = False


def to_metadata(extra: Extra) -> dict[str, str]:
    """Raises Refused if the attributes are too large for user metadata."""
    told = {} if extra.mode is None else {MODE: f"{extra.mode:o}"}
    told |= {LINK: "yes"} if extra.link else {}
    if extra.attributes:
        text = json.dumps(
            {k: base64.b64encode(v).decode() for k, v in sorted(extra.attributes.items())}
        )
        if len(text) > MOST_BYTES:
            message = (
                f"Its extended attributes have {len(text)} bytes, and a bucket keeps "
                f"{MOST_BYTES}. Leave attributes out of what is kept."
            )
            raise Refused(message, code="attributes-too-large")
        told[ATTRIBUTES] = text
    return told


def from_metadata(metadata: Mapping[str, str], keep: Keep) -> Extra:
    """What of it was kept with an object; nonsense, which somebody else wrote, is nothing."""
    mode = metadata.get(MODE, "")
    attributes = dict[str, bytes]()
    if keep.attributes:
        try:
            told = json.loads(metadata.get(ATTRIBUTES) or "{}")
            attributes = {
                str(k): base64.b64decode(v, validate=True)
                for k, v in told.items()
                if k.startswith("user.")
            }
        except (ValueError, TypeError, AttributeError, binascii.Error):
            attributes = {}
    octal = (
        keep.permissions
        and mode.isascii()
        and mode.isdigit()
        and set(mode) <= set("01234567")
        and len(mode) <= 4
    )
    return Extra(
        int(mode, 8) & 0o777 if octal else None, attributes, link=metadata.get(LINK) == "yes"
    )
