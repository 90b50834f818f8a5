"""Reads what people paste: an address as a storage's own page shows it, or a block of credentials
in any of the usual forms (lines of NAME=value or NAME: value, JSON, a table of two lines). Gives
the fields of a store, and what was odd.
"""

from __future__ import annotations

import csv
import json
import re
from typing import Any, NamedTuple

QUOTES = "\"'`“”‘’"
# A label contains all these words (split at anything but letters); the first that fits wins.
LABELS: tuple[tuple[tuple[str, ...], str], ...] = (
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
    (("path",), "path"),
    (("folder",), "path"),
)


class Pasted(NamedTuple):
    """fields: of a store's form, `kind` among them where it can be told.   odd: what was taken off
    or not understood.
    """

    fields: dict[str, str]
    odd: list[str]


def read_pasted(text: str) -> Pasted:
    """Never raises: what isn't understood is said in `odd`."""
    odd: list[str] = []
    stripped = _clean(text, "the text", odd)
    fields = _address(stripped) if "\n" not in stripped else {}
    if not fields:
        fields = _block(stripped, odd)
    if fields.get("endpoint"):
        found = _address(fields["endpoint"]) or {}
        fields = {
            **found,
            **{k: v for k, v in fields.items() if k != "endpoint" or "endpoint" not in found},
        }
    if not fields:
        odd.append("Nothing in it was understood. Paste an address, or lines such as: key id = …")
    elif "kind" not in fields:
        fields["kind"] = "folder" if "path" in fields else "s3"
    return Pasted(fields, odd)


def _clean(value: str, what: str, odd: list[str]) -> str:
    bare = value.strip().strip("\ufeff\u200b\u00a0")
    unquoted = (
        bare[1:-1].strip() if len(bare) > 1 and bare[0] in QUOTES and bare[-1] in QUOTES else bare
    )
    if unquoted != bare:
        odd.append(f"Quotes round {what} were taken off.")
    if bare != value.strip("\r\n") and what != "the text":
        odd.append(f"Blanks round {what} were taken off.")
    return unquoted


def _address(text: str) -> dict[str, str]:
    """An https address with the bucket in host or path, an s3:// URI, or a path."""
    if re.match(r"^(/|~/|[A-Za-z]:\\|file://)", text):
        return {
            "kind": "folder",
            "path": text.removeprefix("file://").replace("\\", "/").rstrip("/") or "/",
        }
    if text.startswith("s3://"):
        return {"kind": "s3", "root": text[5:].strip("/")}
    parts = re.fullmatch(r"(https?)://(?:[^@/?#]*@)?([^/?#]+)([^?#]*).*", text)
    if not parts:
        return {}
    scheme, host, path = parts[1], parts[2], _decoded(parts[3]).strip("/")
    fields = {"kind": "s3", "root": path}
    in_host = re.fullmatch(
        r"(?:(?P<bucket>[a-z0-9.-]+)\.)?(?P<rest>s3[.-](?P<region>[a-z]{2,}(?:-[a-z]+)+-\d+)\.[a-z0-9.:-]+)",
        host,
    )
    if in_host:
        fields["region"] = in_host["region"]
        if in_host["bucket"]:
            fields["root"] = f"{in_host['bucket']}/{path}".rstrip("/")
        host = in_host["rest"]
    return {k: v for k, v in (fields | {"endpoint": f"{scheme}://{host}"}).items() if v}


def _decoded(path: str) -> str:
    """Percent-encoded bytes as the text they stand for (RFC 3986, section 2.1)."""
    raw = re.sub(rb"%([0-9A-Fa-f]{2})", lambda m: bytes.fromhex(m[1].decode()), path.encode())
    return raw.decode("utf-8", "replace")


def _block(text: str, odd: list[str]) -> dict[str, str]:
    fields: dict[str, str] = {}
    for label, value in _pairs(text):
        words = set(re.split(r"[^a-z]+", re.sub(r"(?<=[a-z])(?=[A-Z])", " ", label).lower()))
        field = next((f for needed, f in LABELS if set(needed) <= words), None)
        if field is None:
            odd.append(f"{label.strip()!r} was not understood, and left out.")
        elif field not in fields:
            fields[field] = _clean(value, label.strip(), odd)
    return fields


def _pairs(text: str) -> list[tuple[str, str]]:
    try:
        return [(k, str(v)) for k, v in _flat(json.loads(text))]
    except ValueError:
        lines = [
            line
            for line in text.splitlines()
            if line.strip() and not line.strip().startswith(("#", ";", "["))
        ]
    if len(lines) == 2 and "," in lines[0] and lines[0].count(",") == lines[1].count(","):
        return list(zip(*csv.reader(lines), strict=False))
    pairs = []
    for line in lines:
        found = re.fullmatch(r"\s*(?:export\s+|set\s+)?([^=:]+)[=:](.*)", line)
        if found:
            pairs.append((found[1], found[2]))
    return pairs


def _flat(found: Any) -> list[tuple[str, Any]]:
    if not isinstance(found, dict):
        return []
    return [
        pair for k, v in found.items() for pair in (_flat(v) if isinstance(v, dict) else [(k, v)])
    ]
