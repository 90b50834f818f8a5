"""The form of an S3-compatible object store, and what follows from it."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from pinecart.core.form_fields import Choice, FieldType, FormField
from pinecart.core.keeping import KEPT
from pinecart.core.pasting import PasteRules, percent_decoded
from pinecart.drivers.bucketed.connection_check import BucketCheck
from pinecart.drivers.driver_spec import (
    CONNECT_S,
    HTTP_LINE,
    MOST_AT_ONCE,
    PRICES,
    RUNS_AT_ONCE,
    SILENCE_S,
    YES_OR_NO,
    DriverSpec,
    confined_to,
    root_of,
)
from pinecart.drivers.s3.store import S3Store

KIND = "s3"
LABELS = (
    (("session", "token"), "session_token"),
    (("security", "token"), "session_token"),
    (("secret",), "secret"),
    (("access", "id"), "key_id"),
    (("access", "key"), "key_id"),
    (("key", "id"), "key_id"),
    (("user",), "key_id"),
    (("password",), "secret"),
    (("region",), "region"),
    (("endpoint",), "endpoint"),
    (("host",), "endpoint"),
    (("url",), "endpoint"),
    (("address",), "endpoint"),
    (("bucket",), "root"),
)
_BUCKET_IN_HOST = re.compile(
    r"(?:(?P<bucket>[a-z0-9.-]+)\.)?"
    r"(?P<rest>s3[.-](?P<region>[a-z]{2,}(?:-[a-z]+)+-\d+)\.[a-z0-9.:-]+)"
)


def read_address(text: str) -> dict[str, str]:
    """An http address with the bucket in host or path, or an s3:// URI; else nothing."""
    if text.startswith("s3://"):
        return {"root": text.removeprefix("s3://").strip("/")}
    parts = re.fullmatch(r"(https?)://(?:[^@/?#]*@)?([^/?#]+)([^?#]*).*", text)
    if not parts:
        return {}
    scheme, host, path = parts.groups()
    path = percent_decoded(path).strip("/")
    fields = {"root": path}
    in_host = _BUCKET_IN_HOST.fullmatch(host)
    if in_host:
        host = in_host["rest"]
        fields["region"] = in_host["region"]
        bucket = in_host["bucket"]
        if bucket:
            fields["root"] = f"{bucket}/{path}".rstrip("/")
    fields["endpoint"] = f"{scheme}://{host}"
    return {name: value for name, value in fields.items() if value}


def _is_endpoint(value: str) -> str:
    if value.startswith(("http://", "https://")):
        return ""
    return f"{value!r} is no endpoint: write it as https://HOST or https://HOST:PORT."


FIELDS = (
    FormField(
        "endpoint",
        FieldType.ADDRESS,
        "Endpoint",
        "The storage's address: https://HOST or https://HOST:PORT.",
        is_needed=True,
        example="https://objects.example",
        check=_is_endpoint,
        code="store.address",
    ),
    FormField(
        "region",
        FieldType.TEXT,
        "Region",
        "The region's code; empty: found out where the storage tells it, else us-east-1.",
    ),
    FormField(
        "anonymous",
        FieldType.FLAG,
        "Without a key",
        "Only what the storage shows to everybody.",
        is_common=False,
    ),
    FormField(
        "key_id",
        FieldType.TEXT,
        "Key id",
        "The id of the access key, from the storage's page on access keys.",
        is_needed=True,
        needed_unless="anonymous",
        example="LARKFELL",
    ),
    FormField(
        "secret",
        FieldType.UNSEEN,
        "Secret",
        "Of the access key: shown once beside its id. It is sealed here and never shown.",
        is_needed=True,
        needed_unless="anonymous",
        is_sealed=True,
    ),
    FormField(
        "session_token",
        FieldType.UNSEEN,
        "Session token",
        "The token of a temporary key.",
        is_sealed=True,
        is_common=False,
    ),
    confined_to("bucket", "key"),
    FormField(
        "addressing",
        FieldType.CHOICE,
        "Where the bucket stands",
        "Where the bucket stands in addresses.",
        choices=(Choice("path", "In the path (the usual)"), Choice("host", "In the host's name")),
        default="path",
        is_common=False,
    ),
    *HTTP_LINE,
    CONNECT_S,
    SILENCE_S,
    FormField(
        "sign_payload",
        FieldType.YES_NO,
        "Content in the signature",
        "Whether the content is part of the signature over plain HTTP; over TLS it never is.",
        choices=YES_OR_NO,
        default="yes",
        is_common=False,
    ),
    MOST_AT_ONCE,
    RUNS_AT_ONCE,
    *PRICES,
)


def _system(fields: Mapping[str, Any]) -> str:
    return f"{KIND}:{fields.get('endpoint', '')}"


def _let_in(spec: Mapping[str, Any]) -> str:
    if spec.get("anonymous"):
        return "Without a key."
    return f"Key id {spec['key_id']} is accepted."


S3 = DriverSpec(
    kind=KIND,
    title="An S3-compatible object store",
    fields=FIELDS,
    open=S3Store.from_spec,
    try_it=BucketCheck(S3Store.from_spec, lambda spec: str(spec["endpoint"]), _let_in),
    system=_system,
    root=root_of,
    bound_by=("endpoint", "root"),
    pasting=PasteRules(KIND, read_address, "endpoint", LABELS),
    guards_secret=("endpoint", "proxy", "certificate"),
    shows_buckets=lambda fields: not fields.get("root"),
    keeps=frozenset(KEPT),
    gives=frozenset({"metadata"}),
)
