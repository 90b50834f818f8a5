"""Reads what people paste: an address as a storage's own page shows it, or a block of credentials
in any of the usual forms (lines of NAME=value or NAME: value, JSON, a table of two lines). Gives
the fields of a store, and what was odd.
"""

from __future__ import annotations

import csv
import json
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, NamedTuple

QUOTES = "\"'`“”‘’"
Label = tuple[tuple[str, ...], str]
Pair = tuple[str, str]


class PasteRules(NamedTuple):
    """How one kind of store is recognised.

    address: an address → the fields it fills; none: it is no address of this kind.   script:
    commands of several lines → the same.   address_field: the one that may itself hold a whole
    address.   labels: (words, field); the first whose words are all in a label is meant.   words:
    one of them in what is pasted names the kind.
    """

    kind: str
    address: Callable[[str], Mapping[str, str]]
    address_field: str
    labels: tuple[Label, ...]
    words: tuple[str, ...] = ()
    script: Callable[[str], Mapping[str, str]] = lambda text: {}

    def is_named_in(self, text: str) -> bool:
        return any(word in text.lower() for word in self.words)


class Pasted(NamedTuple):
    """fields: of a store's form, `kind` among them where it can be told.   odd: what was taken off
    or not understood.
    """

    fields: dict[str, str]
    odd: list[str]


def read_pasted(text: str, kinds: Sequence[PasteRules]) -> Pasted:
    """Never raises: what isn't understood is said in `odd`. Where several kinds fit, one that is
    named is meant, else the one of which more fields are filled, and of equals the first.
    """
    odd: list[str] = []
    stripped = _clean(text, "the text", odd)
    if "\n" not in stripped and (found := _read_address(stripped, kinds)):
        return Pasted(found, odd)
    for rules in kinds:
        address = rules.script(stripped)
        if address:
            return Pasted({"kind": rules.kind, **address}, odd)
    pairs = _pairs(stripped)
    read = [_read_block(pairs, rules) for rules in kinds]
    named = [rules.is_named_in(stripped) for rules in kinds]
    best, _ = max(
        zip(read, named, strict=True),
        key=lambda one: (len(one[0].fields) > 1 and one[1], len(one[0].fields)),
    )
    if len(best.fields) > 1:
        return Pasted(best.fields, odd + best.odd)
    odd += best.odd
    odd.append("Nothing in it was understood. Paste an address, or lines such as: key id = …")
    return Pasted({}, odd)


def _read_address(text: str, kinds: Sequence[PasteRules]) -> dict[str, str]:
    """By the kind that reads most of it; none: it is no address of any."""
    found: dict[str, str] = {}
    best = (0, False)
    for rules in kinds:
        address = rules.address(text)
        if not address:
            continue
        fits = (len(address), rules.is_named_in(text))
        if fits > best:
            best = fits
            found = {"kind": rules.kind, **address}
    return found


def percent_decoded(text: str) -> str:
    """Percent-encoded bytes as the text they stand for (RFC 3986, section 2.1)."""
    raw = re.sub(rb"%([0-9A-Fa-f]{2})", lambda m: bytes.fromhex(m[1].decode()), text.encode())
    return raw.decode("utf-8", "replace")


def _clean(value: str, what: str, odd: list[str]) -> str:
    """odd: what was taken off, in words."""
    bare = value.strip().strip("\ufeff\u200b\u00a0")
    unquoted = bare
    if len(bare) > 1:
        is_quoted = bare[0] in QUOTES and bare[-1] in QUOTES
        if is_quoted:
            unquoted = bare[1:-1].strip()
    if unquoted != bare:
        odd.append(f"Quotes round {what} were taken off.")
    line = value.strip("\r\n")
    if bare != line and what != "the text":
        odd.append(f"Blanks round {what} were taken off.")
    return unquoted


def _read_block(pairs: Iterable[Pair], rules: PasteRules) -> Pasted:
    odd: list[str] = []
    fields: dict[str, str] = {}
    for label, value in pairs:
        shown = label.strip()
        field = _field_meant(label, rules.labels)
        if not field:
            odd.append(f"{shown!r} was not understood, and left out.")
        elif field not in fields:
            fields[field] = _clean(value, shown, odd)
    address = dict(rules.address(fields.get(rules.address_field, "")))
    if rules.address_field in address:
        del fields[rules.address_field]
    return Pasted({"kind": rules.kind, **address, **fields}, odd)


def _field_meant(label: str, labels: Iterable[Label]) -> str:
    spaced = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", label)
    words = set(re.split(r"[^a-z]+", spaced.lower()))
    return next((field for needed, field in labels if words.issuperset(needed)), "")


def _pairs(text: str) -> list[Pair]:
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
    """The values at the ends of a nested object, in their order, without the names of what they lie
    in. What is no object has none.
    """
    if not isinstance(found, dict):
        return []
    return [
        pair for k, v in found.items() for pair in (_flat(v) if isinstance(v, dict) else [(k, v)])
    ]
