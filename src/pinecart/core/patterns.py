"""Name patterns, matched in a time that grows with the name alone, whatever the pattern is.

`*` stands for any characters but `/`, `**` for any at all, `**/` for any folders or none, `?` for
one character, `[a-z]` for one of a set. Everything is bytes. A pattern in which at most one `*` is
tried at a time becomes a regular expression, which costs least; one with more of them could make
that go back and forth for ever, and is followed by all its ways at once: a set of places in the
pattern, kept as the bits of one number (the Glushkov construction, bit-parallel).
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import Any, NamedTuple

SLASH = ord("/")
ANY = (1 << 256) - 1  # sets of bytes, a bit for each
BUT_SLASH = ANY & ~(1 << SLASH)
MOST_LETTERS = 1000  # of one pattern
MOST_PATTERNS = 500  # of one rule


class PatternToken(NamedTuple):
    """One piece of a pattern.

    some: any number of these bytes. optional: the next two may be left out, together.
    """

    bytes_: int
    some: bool = False
    optional: bool = False


class Patterns:
    """Several patterns; a key matches if one of them does."""

    def __init__(
        self, quick: re.Pattern[bytes] | None, others: Sequence[Callable[[bytes], bool]]
    ) -> None:
        """quick: the plain ones, as one expression. others: each asked by itself."""
        self._quick = quick
        self._others = others

    def fullmatch(self, key: bytes) -> bool:
        return (self._quick is not None and self._quick.fullmatch(key) is not None) or any(
            o(key) for o in self._others
        )


def compiled(patterns: Sequence[str], *, ignore_case: bool) -> Any:
    """What has `fullmatch`, for bytes.

    Raises ValueError for a pattern that makes no sense, and says why.
    """
    read = [tokens_of(pattern, ignore_case=ignore_case) for pattern in patterns]
    quick = [_as_regular_expression(tokens) for tokens in read if _is_quick(tokens)]
    others = [_Ways(tokens).lead_through for tokens in read if not _is_quick(tokens)]
    one = re.compile(b"|".join(quick), re.DOTALL) if quick else None
    if others:
        return Patterns(one, others)
    return one


@lru_cache(maxsize=1024)
def tokens_of(pattern: str, *, ignore_case: bool) -> tuple[PatternToken, ...]:
    """Raises ValueError for a pattern that makes no sense. Case is that of ASCII."""
    flags = re.DOTALL | (re.IGNORECASE if ignore_case else 0)
    if not pattern:
        raise ValueError("it is empty")
    if len(pattern) > MOST_LETTERS:
        raise ValueError(f"it has over {MOST_LETTERS} letters")
    if pattern.startswith("/"):
        raise ValueError("it starts with /; patterns are relative to the leg's From")
    raw = pattern.encode("utf-8", "surrogateescape")
    tokens = list[PatternToken]()
    i = 0
    if b"/" not in raw:
        tokens += FOLDERS
    while i < len(raw):
        c = raw[i : i + 1]
        if raw[i : i + 3] == b"**/":
            i += 3
            if tokens[-3:] != FOLDERS and tokens[-1:] != [ALL]:
                tokens += FOLDERS
        elif c == b"*":
            crosses = raw[i : i + 2] == b"**"
            i += 2 if crosses else 1
            _add_some(tokens, ALL if crosses else PatternToken(BUT_SLASH, some=True))
        elif c == b"?":
            tokens.append(PatternToken(BUT_SLASH))
            i += 1
        elif c == b"[":
            one, i = _one_of(raw, i, flags)
            tokens.append(PatternToken(one))
        else:
            tokens.append(PatternToken(_taken_by(re.compile(re.escape(c), flags))))
            i += 1
    return tuple(tokens)


ALL = PatternToken(ANY, some=True)
FOLDERS = [PatternToken(0, some=True, optional=True), ALL, PatternToken(1 << SLASH)]


def _add_some(tokens: list[PatternToken], some: PatternToken) -> None:
    """What follows something that takes it in, or takes in what it follows, is one with it."""
    if some == ALL and tokens[-3:] == FOLDERS:
        del tokens[-3:]
    last = tokens[-1] if tokens else None
    if last is None or not last.some:
        tokens.append(some)
    elif some == ALL:
        tokens[-1] = ALL


def _one_of(raw: bytes, start: int, flags: int) -> tuple[int, int]:
    """The bytes of a set, never `/`, and where it ends."""
    end = raw.find(b"]", start + 2)
    if end < 0:
        raise ValueError("a [ without its ]")
    inside = raw[start + 1 : end]
    negated = inside[:1] in b"!^"
    body = re.sub(rb"([\\\[\]^&~|])", rb"\\\1", inside[1:] if negated else inside)
    try:
        one = re.compile(b"[" + (b"^" if negated else b"") + body + b"]", flags)
    except re.error as exc:
        raise ValueError(
            f"the set [{inside.decode('utf-8', 'replace')}] makes no sense ({exc})"
        ) from None
    return _taken_by(one) & BUT_SLASH, end + 1


@lru_cache(maxsize=1024)
def _taken_by(one: re.Pattern[bytes]) -> int:
    return sum(1 << n for n in range(256) if one.match(bytes([n])))


def _is_quick(tokens: Sequence[PatternToken]) -> bool:
    """Whether a regular expression never has to try two `*` of one stretch against each other: one
    `**` at most, and one `*` between two slashes.
    """
    crossing = 0
    within = 0
    for token in tokens:
        if token.some and token.bytes_ & (1 << SLASH):
            crossing += 1
        elif token.some and token.bytes_:
            within += 1
        elif token.bytes_ == 1 << SLASH:
            within = 0
        if crossing > 1 or within > 1 or (crossing and within and not _apart(tokens)):
            return False
    return True


def _apart(tokens: Sequence[PatternToken]) -> bool:
    """Whether a `**` stands for whole folders: a slash parts it from any `*`."""
    slash = 1 << SLASH
    for n, token in enumerate(tokens):
        if not token.some or not token.bytes_ & slash:
            continue
        start = n - 1 if n and tokens[n - 1].optional else n
        before = tokens[:start]
        after = tokens[n + 1 :]
        begins_apart = not before or before[-1].bytes_ == slash
        ends_apart = not after or after[0].bytes_ == slash
        return begins_apart and ends_apart
    return True


def _as_regular_expression(tokens: Sequence[PatternToken]) -> bytes:
    out = b""
    closing = -1
    for n, token in enumerate(tokens):
        if token.optional:
            out += b"(?:"
            closing = n + 2
        else:
            out += (
                _class(token.bytes_)
                + (b"*" if token.some else b"")
                + (b")?" if n == closing else b"")
            )
    return out


def _class(taken: int) -> bytes:
    """One byte of the set whose bits are taken, as a regular expression; a set without members is
    one that nothing fits, which is a class too.
    """
    if taken == ANY:
        return b"."
    if taken == BUT_SLASH:
        return b"[^/]"
    members = [n for n in range(256) if taken >> n & 1]
    if len(members) == 1:
        return re.escape(bytes(members))
    if members:
        return b"[" + b"".join(b"\\x%02x" % n for n in members) + b"]"
    return b"[^\\x00-\\xff]"


class _Ways:
    """Leads a key through a pattern by all ways at once.

    A bit for each place between two tokens.
    """

    def __init__(self, tokens: Sequence[PatternToken]) -> None:
        self._end = 1 << len(tokens)
        self._on = [0] * 256
        self._stay = [0] * 256
        # places from which the next, or the third on, is reached without a byte
        self._some = 0
        self._optional = 0
        places: dict[tuple[bool, int], int] = defaultdict(int)  # by what is taken there
        for n, token in enumerate(tokens):
            places[token.some, token.bytes_] |= 1 << n
            self._optional |= token.optional << n
            self._some |= token.some << n
        for (some, taken), at in places.items():
            for byte in range(256):
                if taken >> byte & 1:
                    (self._stay if some else self._on)[byte] |= at

    def _reached(self, places: int) -> int:
        while (
            more := places | (places & self._some) << 1 | (places & self._optional) << 3
        ) != places:
            places = more
        return places

    def lead_through(self, key: bytes) -> bool:
        """Whether a key fits: at each byte, all places at once where the pattern may be by then,
        one bit each. It never goes back, so that no key takes longer than another of its length.
        """
        places = self._reached(1)
        for byte in key:
            places = self._reached((places & self._on[byte]) << 1 | places & self._stay[byte])
            if not places:
                return False
        return bool(places & self._end)
