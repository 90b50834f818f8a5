"""Locations (`pine://store/path`) and how keys are shown.

A key is bytes and is never changed here.
"""

from __future__ import annotations

import base64
import difflib
import re
import unicodedata
from collections.abc import Iterable
from typing import NamedTuple

from pinecart.core.errors import Invalid

SCHEME = "pine://"
_NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,62}")
_HIDDEN = {"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"}


class Location(NamedTuple):
    """A place in a store.

    path: the key's own text as bytes; empty, or ending in `/`, for a prefix.
    """

    store: str
    path: bytes

    def __str__(self) -> str:
        return f"{SCHEME}{self.store}/{show(self.path)}"

    @property
    def text(self) -> str:
        """As it is written and parsed again, nothing escaped."""
        return f"{SCHEME}{self.store}/{key_text(self.path)}"

    def as_prefix(self) -> Location:
        """The same place ending at a `/` boundary: `2026` becomes `2026/`, and never touches
        `2026-old/`.
        """
        if not self.path or self.path.endswith(b"/"):
            return self
        return Location(self.store, self.path + b"/")


def is_name(text: str) -> bool:
    """Names of stores, jobs: small letters, digits and hyphens, 63 at most, not starting with a
    hyphen.
    """
    return bool(_NAME.fullmatch(text))


def parse_location(text: str, *, field: str = "location") -> Location:
    """Read `pine://store/path`.

    Nothing in the path is decoded; `?` and `#` are characters of it. Raises Invalid.
    """
    if not text.startswith(SCHEME):
        raise _bad(
            field,
            (
                f"{text!r} is not a location. Write it as pine://STORE/PATH, such as "
                "pine://office/dawn/."
            ),
        )
    store, _, path = text[len(SCHEME) :].partition("/")
    if not is_name(store):
        raise _bad(
            field,
            (
                f"{text!r} names no store: after pine:// comes a store's short name, then / and "
                "the path."
            ),
        )
    raw = key_of_text(path, field=field)
    if path.startswith("/") or b"\0" in raw:
        raise _bad(field, f"{text!r}: a path has no leading / and no NUL.")
    return Location(store, raw)


def _bad(field: str, message: str) -> Invalid:
    return Invalid([{"field": field, "code": "location.malformed", "message": message}])


def lies_in(inner: bytes, outer: bytes) -> bool:
    """Whether prefix `inner` equals or lies below prefix `outer` (both empty or ending in `/`)."""
    return inner.startswith(outer)


def touch(a: Location, b: Location) -> bool:
    """Whether one of two prefixes equals or holds the other."""
    return a.store == b.store and (lies_in(a.path, b.path) or lies_in(b.path, a.path))


def show(key: bytes) -> str:
    """A key for people: text as it is; what isn't text, control and direction-changing characters
    escaped.
    """
    text = key.decode("utf-8", "surrogateescape")
    if text.isascii() and text.isprintable():
        return text
    shown = []
    for c in text:
        is_hidden = unicodedata.category(c) in _HIDDEN
        shown.append(_escape(c) if is_hidden else c)
    return "".join(shown)


def shown_lines(text: str) -> str:
    """What a person wrote, in lines, with whatever could steer a terminal escaped."""
    return "\n".join(show(line.encode("utf-8", "surrogateescape")) for line in text.split("\n"))


def _escape(c: str) -> str:
    """A byte that is no text is shown as a byte, and what can't be seen by its number."""
    n = ord(c)
    if 0xDC80 <= n <= 0xDCFF:
        byte = n - 0xDC00
        return f"\\x{byte:02x}"
    if n < 0x10000:
        return f"\\u{n:04x}"
    return f"\\U{n:08x}"


_ID = "pine-id:"


def key_text(key: bytes) -> str:
    """Text that stands for exactly this key wherever one is asked for: its own, but an id for each
    name that is no text.

    A key's leading `/` follows an id for no name, so that behind a place it is never taken for the
    end of a store's name.
    """
    try:
        text = key.decode()
    except UnicodeDecodeError:
        text = _ID
    if _ID in text:
        text = "/".join(map(_name_text, key.split(b"/")))
    if text.startswith("/"):
        return _ID + text
    return text


def _name_text(name: bytes) -> str:
    try:
        text = name.decode()
    except UnicodeDecodeError:
        text = _ID
    if text.startswith(_ID):
        return _ID + base64.urlsafe_b64encode(name).decode().rstrip("=")
    return text


def key_of_text(text: str, *, field: str = "path") -> bytes:
    """The key that a text stands for: `key_text` undone. Raises Invalid for an id that is none."""
    if _ID not in text:
        return text.encode("utf-8", "surrogateescape")
    try:
        return b"/".join(map(_name_of_text, text.split("/")))
    except ValueError:
        raise _bad(
            field, f"{text!r} has an id that is none. Take the key_id as it was given."
        ) from None


def _name_of_text(text: str) -> bytes:
    """The bytes that a text stands for: itself, or those that an identifier of ours holds, for
    names that no address can have.
    """
    if not text.startswith(_ID):
        return text.encode("utf-8", "surrogateescape")
    told = text.removeprefix(_ID)
    padding = "=" * (-len(told) % 4)
    return base64.b64decode(told + padding, altchars=b"-_", validate=True)


def key_fields(key: bytes) -> dict[str, str]:
    """A key for the API: `key` to read, and `key_id` to give back wherever a key, a path or a
    location is asked for.
    """
    return {"key": show(key), "key_id": key_text(key)}


def dated_name(key: bytes, stamp: str) -> bytes:
    """The second name of what is kept when both are: `dawn (2026-03-02 05.30.00).flac`."""
    head, slash, name = key.rpartition(b"/")
    stem, dot, ending = name.rpartition(b".")
    if not stem:
        stem = name
        dot = b""
        ending = b""
    when = f" ({stamp})".encode()
    dated = stem + when + dot + ending
    return head + slash + dated


ASIDE = b".pinecart-aside/"


def aside_folder(home: bytes, run: int, within: bytes = b"") -> bytes:
    """Below which a run sets things aside: at the store's root, or in the folder `within` there."""
    return home + within + ASIDE + f"{run}/".encode()


def aside_key(home: bytes, run: int, leg: int, whole: bytes, within: bytes = b"") -> bytes:
    """Where the object `whole` is set aside: its own path, below the run's folder and the leg's."""
    return aside_folder(home, run, within) + f"{leg}/".encode() + whole[len(home) :]


def original_key(home: bytes, at: bytes) -> bytes:
    """The whole key that was set aside as `at`."""
    return home + at[len(home) :].partition(ASIDE)[2].split(b"/", 2)[2]


def closest(name: str, known: Iterable[str]) -> list[str]:
    """Up to three known names like `name`, for "did you mean"."""
    return difflib.get_close_matches(name, list(known), n=3, cutoff=0.6)


def did_you_mean(name: str, known: Iterable[str]) -> str:
    """ " Did you mean 'x'?" or nothing."""
    near = closest(name, known)
    if near:
        return f" Did you mean {' or '.join(repr(n) for n in near)}?"
    return ""
