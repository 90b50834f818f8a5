"""Answers in XML."""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET

from pinecart.core.errors import Busy

# what XML can't hold, and some servers send after all
CONTROLS = re.compile(
    rb"[\x00-\x08\x0b\x0c\x0e-\x1f]|&#(?:x0*(?:[0-8bceBCE]|1[0-9a-fA-F])|0*(?:[0-8]|1[124-9]|2[0-9]|3[01]));"
)


def local_name(tag: str) -> str:
    return tag.rpartition("}")[2]


def tree_of(body: bytes) -> ET.Element:
    """Raises Busy for what is cut or garbled."""
    try:
        return ET.fromstring(body)
    except ET.ParseError as exc:
        raise Busy(f"The store's answer was cut or is no XML ({exc}).", code="store.cut") from exc
