"""The form of an account's blob storage, and what follows from it.

What can go wrong with it, each with a test:
- an account's address with or without the account in its path; a signature, or a key, that has
  ended, was exchanged or may not do something;
- a storage that verifies one checksum, another or none; that takes no notice of conditions;
- a listing in another order than that of bytes, names that XML can't hold, folders of hierarchical
  accounts, pages that go round in circles;
- parts of somebody else's upload under the same name; an upload that was cut at any step;
- leases, snapshots, archived blobs, copies that take their time or fail;
- metadata that no blob can have.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from pinecart.core.form_fields import FieldType, FormField
from pinecart.core.keeping import KEPT
from pinecart.core.pasting import PasteRules, percent_decoded
from pinecart.drivers.blob.client import account_name
from pinecart.drivers.blob.store import BlobStore
from pinecart.drivers.bucketed.connection_check import BucketCheck
from pinecart.drivers.driver_spec import (
    HTTP_LINE,
    LIMITS,
    PRICES,
    DriverSpec,
    confined_to,
    http_parts,
    root_of,
)

KIND = "blob"
LABELS = (
    (("connection", "string"), "endpoint"),
    (("sas", "url"), "endpoint"),
    (("sas",), "sas"),
    (("signature",), "sas"),
    (("account", "key"), "key"),
    (("account", "name"), "account"),
    (("storage", "account"), "account"),
    (("endpoint",), "endpoint"),
    (("container",), "root"),
    (("url",), "endpoint"),
    (("key",), "key"),
)
_STRING = re.compile(r"(?:(?:[A-Za-z]+)=[^;\s]+;)+(?:[A-Za-z]+)=[^;\s]+;?")
_KNOWN = re.compile(r"(^|;)(AccountName|BlobEndpoint|SharedAccessSignature)=")
_SIGNED_URL = re.compile(r"(https?)://([^@/?#\s]+)([^?#\s]*)\?([^#\s]*\bsig=[^#\s]*)")
_URL = re.compile(r"(https?)://([^@/?#\s]+)([^?#\s]*)(?:\?[^#\s]*)?")


def read_address(text: str) -> dict[str, str]:
    """A connection string, or an address that is signed."""
    if _STRING.fullmatch(text) and _KNOWN.search(text):
        return _of_string(text)
    found = _SIGNED_URL.fullmatch(text)
    if found:
        return _of_url(*found.groups())
    return {}


def read_place(text: str) -> dict[str, str]:
    """The fields that any address of the service tells, signed or not; a signature in it is
    left out, since it may be somebody else's.
    """
    found = _URL.fullmatch(text)
    if found:
        return _of_url(found[1], found[2], found[3], "")
    return {}


def read_script(text: str) -> dict[str, str]:
    """The first connection string or signed address among other words."""
    for word in re.split(r"[\s\"']+", text):
        bare = re.sub(r"^[A-Z_]+=(?=DefaultEndpointsProtocol=|https?:)", "", word)
        found = read_address(bare)
        if found:
            return found
    return {}


def _of_string(text: str) -> dict[str, str]:
    """Of a connection string: NAME=VALUE;…"""
    told: dict[str, str] = {}
    for part in text.split(";"):
        name, _, value = part.partition("=")
        told[name] = value
    account = told.get("AccountName", "")
    endpoint = told.get("BlobEndpoint", "")
    suffix = told.get("EndpointSuffix")
    if suffix and account and not endpoint:
        scheme = told.get("DefaultEndpointsProtocol", "https")
        endpoint = f"{scheme}://{account}.blob.{suffix}"
    if account == account_name(endpoint):
        account = ""  # the endpoint tells it
    fields = {
        "endpoint": endpoint.rstrip("/"),
        "account": account,
        "key": told.get("AccountKey", ""),
        "sas": told.get("SharedAccessSignature", ""),
    }
    return {field: value for field, value in fields.items() if value}


def _of_url(scheme: str, host: str, path: str, sas: str) -> dict[str, str]:
    """The account stands in the path where the host is a machine of one's own."""
    endpoint = f"{scheme}://{host}"
    root = percent_decoded(path).strip("/")
    is_in_path = ":" in host or "." not in host
    if is_in_path and root:
        account, _, root = root.partition("/")
        endpoint += f"/{account}"
    fields = {"endpoint": endpoint, "sas": sas, "root": root}
    return {field: value for field, value in fields.items() if value}


def _is_endpoint(value: str) -> str:
    parts = http_parts(value)
    if parts and parts.path.count("/") < 2:
        return ""
    return f"{value!r} is no endpoint: write it as https://ACCOUNT.HOST or https://HOST/ACCOUNT."


FIELDS = (
    FormField(
        "endpoint",
        FieldType.ADDRESS,
        "Endpoint",
        "The account's address: https://ACCOUNT.HOST, or https://HOST/ACCOUNT.",
        is_needed=True,
        example="https://larkfell.blob.example",
        check=_is_endpoint,
        code="store.address",
    ),
    FormField(
        "account",
        FieldType.TEXT,
        "Account",
        "Its name.",
        default="as in the endpoint",
        is_common=False,
    ),
    FormField(
        "key",
        FieldType.UNSEEN,
        "Account key",
        "One of the account's two keys. It is sealed here and never shown.",
        is_sealed=True,
    ),
    FormField(
        "sas",
        FieldType.UNSEEN,
        "Shared access signature",
        "Instead of a key: what follows the ? of a signed address. It is sealed here and never "
        "shown.",
        is_sealed=True,
    ),
    confined_to("container", "account"),
    *HTTP_LINE,
    *LIMITS,
    *PRICES,
)


def _system(fields: Mapping[str, Any]) -> str:
    return f"{KIND}:{str(fields.get('endpoint', '')).rstrip('/').lower()}"


def _let_in(spec: Mapping[str, Any]) -> str:
    if spec.get("sas"):
        return "The signature is accepted."
    if spec.get("key"):
        return "The account's key is accepted."
    return "Without a key."


BLOB = DriverSpec(
    kind=KIND,
    title="Blob storage of an account",
    fields=FIELDS,
    open=BlobStore,
    try_it=BucketCheck(BlobStore, lambda spec: str(spec["endpoint"]), _let_in, "container"),
    system=_system,
    root=root_of,
    bound_by=("endpoint", "account", "root"),
    pasting=PasteRules(
        KIND,
        read_address,
        "endpoint",
        LABELS,
        words=("accountkey", "blob", "container", "sharedaccesssignature"),
        script=read_script,
    ),
    guards_secret=("endpoint", "account", "proxy", "certificate"),
    places=read_place,
    shows_buckets=lambda fields: not fields.get("root"),
    keeps=frozenset(KEPT),
    gives=frozenset({"metadata"}),
    cautions=(
        "Of metadata it keeps plain text under names of letters, digits and _; what else an object "
        "has is listed as not kept.",
    ),
)
