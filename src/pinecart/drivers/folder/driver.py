"""The form of a folder on the service's machine, and what follows from it."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping
from typing import Any

from pinecart.core.errors import Invalid
from pinecart.core.form_fields import FieldType, FormField
from pinecart.core.pasting import PasteRules
from pinecart.drivers.driver_spec import (
    LINKS,
    MOST_AT_ONCE,
    PROOFS,
    RUNS_AT_ONCE,
    DriverSpec,
    as_prefix,
)
from pinecart.drivers.folder.connection_check import try_folder
from pinecart.drivers.folder.store import FolderStore
from pinecart.json_object import JsonObject

KIND = "folder"


def read_address(text: str) -> dict[str, str]:
    """A path as a desktop, a shell or a browser shows it; else nothing."""
    if not re.match(r"^(/|~/|[A-Za-z]:\\|file://)", text):
        return {}
    path = text.removeprefix("file://").replace("\\", "/").rstrip("/")
    return {"path": path or "/"}


def _is_plain_name(value: str) -> str:
    if "/" not in value and value not in (".", ".."):
        return ""
    return "A marker is the name of a file that lies in the folder itself, without any /."


FIELDS = (
    FormField(
        "path",
        FieldType.FOLDER,
        "Path",
        "The whole path on the service's machine.",
        is_needed=True,
        example="/srv/larkfell/posts",
    ),
    LINKS,
    FormField(
        "read_back",
        FieldType.YES_NO,
        "Proof",
        "Whether what is written is read again to prove it; without, a copy is faster, and its "
        "size is all the proof there is.",
        choices=PROOFS,
        default="yes",
    ),
    FormField(
        "marker",
        FieldType.TEXT,
        "Marker file",
        "A file that lies in the folder itself. When it is missing, another disk is mounted "
        "there, and nothing is listed or written.",
        example="this-is-the-archive",
        check=_is_plain_name,
        code="store.marker",
    ),
    MOST_AT_ONCE,
    RUNS_AT_ONCE,
)


def _found_on_saving(fields: Mapping[str, Any]) -> JsonObject:
    """The file system's id, by which another disk at the same path is known. Raises Invalid."""
    path = fields["path"]
    marker = fields.get("marker")
    if marker:
        full = os.path.join(path, marker)
        if not os.path.isfile(full):
            message = f"There is no file {marker} in {path}. Make it first, on the disk itself."
            problem = {"field": "marker", "code": "store.no-marker", "message": message}
            raise Invalid([problem])
    disk = os.statvfs(path)
    return {"fsid": disk.f_fsid}


def _system(fields: Mapping[str, Any]) -> str:
    return KIND


def _root(fields: Mapping[str, Any]) -> bytes:
    """The real path, links followed, so that two stores whose folders are one or lie in one another
    are known to.
    """
    root = os.path.realpath(fields["path"]).strip("/")
    return as_prefix(root.encode("utf-8", "surrogateescape"))


FOLDER = DriverSpec(
    kind=KIND,
    title="A folder",
    fields=FIELDS,
    open=FolderStore.from_spec,
    try_it=try_folder,
    system=_system,
    root=_root,
    bound_by=("path",),
    pasting=PasteRules(KIND, read_address, "path", ((("path",), "path"), (("folder",), "path"))),
    on_saving=_found_on_saving,
    keeps=frozenset({"times", "permissions", "attributes"}),
    gives=frozenset({"times"}),
)
