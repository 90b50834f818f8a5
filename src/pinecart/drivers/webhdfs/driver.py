"""The form of a WebHDFS file system, and what follows from it."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import urlsplit

from pinecart.core.form_fields import FieldType, FormField
from pinecart.core.pasting import PasteRules, percent_decoded
from pinecart.drivers.driver_spec import (
    HTTP_LINE,
    LIMITS,
    DriverSpec,
    http_parts,
    root_of,
)
from pinecart.drivers.remote_tree.form import READ_BACK, root_field
from pinecart.drivers.webhdfs.connection_check import try_webhdfs
from pinecart.drivers.webhdfs.store import HdfsStore

KIND = "webhdfs"
LABELS = (
    (("token",), "token"),
    (("url",), "url"),
    (("address",), "url"),
    (("namenode",), "url"),
    (("user",), "user"),
    (("username",), "user"),
    (("path",), "root"),
    (("folder",), "root"),
)
_URL = re.compile(r"(?P<scheme>webhdfs|swebhdfs)://(?P<rest>[^/\s]+)(?P<root>/\S*)?")
_REST = re.compile(
    r"(?P<origin>https?://[^/\s]+)/webhdfs/v1(?P<root>/[^?\s]*)?(?:\?(?P<query>\S*))?"
)


def _asking(query: str) -> dict[str, str]:
    """Who asks, of the query of a request."""
    told: dict[str, str] = {}
    for pair in query.split("&"):
        name, _, value = pair.partition("=")
        told[name] = value
    user = told.get("user.name", "")
    token = told.get("delegation", "")
    return {"user": user, "token": token}


def read_address(text: str) -> dict[str, str]:
    """`webhdfs://…`, `swebhdfs://…`, or the address of a request."""
    found = _URL.fullmatch(text)
    if found:
        scheme = "https" if found["scheme"] == "swebhdfs" else "http"
        url = f"{scheme}://{found['rest']}"
        fields = {}
    elif found := _REST.fullmatch(text):
        url = found["origin"]
        fields = _asking(found["query"] or "")
    else:
        return {}
    root = found["root"] or ""
    fields["root"] = root.rstrip("/")
    told = {name: percent_decoded(value) for name, value in fields.items() if value}
    told["url"] = url
    return told


def _is_url(value: str) -> str:
    parts = http_parts(value)
    if parts and parts.path in ("", "/"):
        return ""
    return f"{value!r} is no name node's address: write it as https://HOST:PORT."


def _are_hosts(value: str) -> str:
    """Empty: all may be names of hosts, perhaps with a star in them. Else which of them is none."""
    odd = [host for host in value.replace(",", " ").split() if not re.fullmatch(r"[\w.*-]+", host)]
    if odd:
        return f"{odd[0]!r} is no host's name."
    return ""


FIELDS = (
    FormField(
        "url",
        FieldType.ADDRESS,
        "Name node",
        "The address of its web interface.",
        is_needed=True,
        example="https://names.partner.example:9871",
        check=_is_url,
        code="store.address",
    ),
    FormField(
        "user",
        FieldType.TEXT,
        "User",
        "Who we are there, where no token is asked for.",
        is_needed=True,
        needed_unless="token",
    ),
    FormField(
        "token",
        FieldType.UNSEEN,
        "Token",
        "A delegation token instead of a user. It is sealed here and never shown.",
        is_sealed=True,
    ),
    root_field("the whole file system", example="/data/larkfell"),
    FormField(
        "data_hosts",
        FieldType.TEXT,
        "Hosts of data nodes",
        "To which files may go besides the name node's own; * stands for any part of a name.",
        example="*.data.partner.example",
        default="the name node's own only",
        check=_are_hosts,
        code="store.address",
    ),
    READ_BACK,
    *HTTP_LINE,
    *LIMITS,
)


def _system(fields: Mapping[str, Any]) -> str:
    parts = urlsplit(str(fields.get("url") or ""))
    return f"{KIND}:{parts.scheme}://{parts.netloc.lower()}"


WEBHDFS = DriverSpec(
    kind=KIND,
    title="A WebHDFS file system",
    fields=FIELDS,
    open=HdfsStore,
    try_it=try_webhdfs,
    system=_system,
    root=root_of,
    bound_by=("url", "root", "user"),
    pasting=PasteRules(KIND, read_address, "url", LABELS, words=("webhdfs", "hdfs")),
    guards_secret=("url", "data_hosts", "proxy", "certificate"),
    keeps=frozenset({"times", "permissions"}),
    gives=frozenset({"times"}),
    cautions=(
        "Times are kept to the millisecond.",
        "Names with a colon are refused, and listed.",
        "Its checksums depend on how blocks lie: what is written is read back over the line, "
        "unless the store says otherwise.",
        "No condition guards what is replaced or removed: it is looked at just before.",
    ),
)
