"""Which keys a leg takes: name patterns in and out, compiled to one expression each.

`*` stands for any characters but `/`, `**` for any at all, `?` for one, `[a-z]` for a set. A pattern with a `/` is
held against the whole path below the leg's From; one without is held against the last part, at any depth.
Case counts. Everything is bytes.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

from pinecart.core.errors import Invalid


class Selection(NamedTuple):
    """take: None means everything.   leave_out: None means nothing. Leaving out wins."""

    take: re.Pattern[bytes] | None
    leave_out: re.Pattern[bytes] | None

    def takes(self, key: bytes) -> bool:
        if self.leave_out is not None and self.leave_out.fullmatch(key):
            return False
        return self.take is None or self.take.fullmatch(key) is not None


def compile_selection(take: Sequence[str], leave_out: Sequence[str]) -> Selection:
    """Raises Invalid with every malformed pattern."""
    problems: list[dict[str, str]] = []
    built = [_compile(patterns, field, problems) for patterns, field in ((take, "take"), (leave_out, "leave_out"))]
    if problems:
        raise Invalid(problems)
    return Selection(*built)


def _compile(patterns: Sequence[str], field: str, problems: list[dict[str, str]]) -> re.Pattern[bytes] | None:
    parts = []
    for pattern in patterns:
        try:
            parts.append(_translate(pattern))
        except ValueError as exc:
            message = f"Pattern {pattern!r} is malformed: {exc}."
            problems.append({"field": field, "code": "pattern.malformed", "message": message})
    return re.compile(b"|".join(parts), re.DOTALL) if parts else None


def _translate(pattern: str) -> bytes:
    if not pattern:
        raise ValueError("it is empty")
    if pattern.startswith("/"):
        raise ValueError("it starts with /; patterns are relative to the leg's From")
    raw, out, i = pattern.encode("utf-8", "surrogateescape"), b"", 0
    while i < len(raw):
        c = raw[i : i + 1]
        if raw[i : i + 3] == b"**/":
            out, i = out + rb"(?:.*/)?", i + 3
        elif raw[i : i + 2] == b"**":
            out, i = out + rb".*", i + 2
        elif c == b"[":
            piece, i = _one_of(raw, i)
            out += piece
        else:
            out, i = out + {b"*": rb"[^/]*", b"?": rb"[^/]"}.get(c, re.escape(c)), i + 1
    return out if b"/" in raw else rb"(?:.*/)?" + out


def _one_of(raw: bytes, start: int) -> tuple[bytes, int]:
    end = raw.find(b"]", start + 2)
    if end < 0:
        raise ValueError("a [ without its ]")
    inside = raw[start + 1 : end]
    negated = inside[:1] in b"!^"
    body = re.sub(rb"([\\\[\]^&~|])", rb"\\\1", inside[1:] if negated else inside)
    piece = b"(?!/)[" + (b"^" if negated else b"") + body + b"]"
    try:
        re.compile(piece)
    except re.error as exc:
        raise ValueError(f"the set [{inside.decode('utf-8', 'replace')}] makes no sense ({exc})") from None
    return piece, end + 1
