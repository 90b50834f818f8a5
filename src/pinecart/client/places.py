"""How a place may be written: a location, or a path of this machine as a desktop or a shell gives
it. One reading for all.
"""

from __future__ import annotations

import base64
import os
import re
from collections.abc import Iterable, Sequence
from pathlib import Path
from urllib.parse import urlsplit

from pinecart.client.errors import InvalidRequest
from pinecart.json_object import JsonObject

SCHEME = "pine://"
THIS_MACHINE = ("127.0.0.1", "localhost", "::1")
_ADDRESS = re.compile(r"[a-z][a-z0-9+.-]*://|//|\\\\|[^\s@/]+@[^\s:/]+:", re.IGNORECASE)


def tidied(text: str) -> str:
    """Without the quotes, blanks and `file:` that come with pasting; slashes the way round that a
    path has them.
    """
    bare = text.strip().strip("'\"").strip()
    if bare.startswith(SCHEME):
        return bare
    return bare.removeprefix("file://").replace("\\", "/")


def is_address(text: str) -> bool:
    """Of another machine: with a scheme, of a share, or of an account at a host; unless there is
    such a path on this one.
    """
    bare = text.strip().strip("'\"").strip()
    is_one = bool(_ADDRESS.match(bare)) and not bare.startswith((SCHEME, "file:"))
    return is_one and not os.path.lexists(bare)


def closest(address: str, locations: Sequence[str]) -> str:
    """The location to use for an address: the store that reaches it most closely comes first.
    Raises InvalidRequest where no store reaches it.
    """
    if locations:
        return locations[0]
    shown = address.partition("?")[0]  # what follows may be a secret
    message = f"No store reaches {shown}. Add one with: pinecart store add NAME --pasted-file FILE"
    raise InvalidRequest(message, code="location.in-no-store")


def located(text: str, url: str, stores: Iterable[JsonObject]) -> str:
    """A location as it is; a path of this machine as the place in the folder store that holds it.

    url: of the service.   stores: asked for only where a path is given. Raises Invalid with what to
    do.
    """
    tidy = tidied(text)
    if tidy.startswith(SCHEME):
        return exact(tidy)
    path = os.path.realpath(os.path.expanduser(tidy))
    if urlsplit(url).hostname not in THIS_MACHINE:
        message = (
            f"{text} is a path of this machine, and the service runs on another. Write a "
            "location: pine://STORE/PATH"
        )
        raise InvalidRequest(message, code="location.not-here")
    roots = {s["path"]: s["name"] for s in stores if s["is_local"]}
    ending = "/" if tidy.endswith("/") or os.path.isdir(path) else ""
    for root in sorted(roots, key=len, reverse=True):
        if path == root or path.startswith(root.rstrip("/") + "/"):
            inner = path[len(root) :].lstrip("/")
            return exact(f"{SCHEME}{roots[root]}/{inner}{ending if inner else ''}")
    folder = path if os.path.isdir(path) else str(Path(path).parent)
    message = (
        f"{text} lies in no folder store. Register one with: pinecart store add NAME --kind "
        f"folder --path {folder}"
    )
    raise InvalidRequest(message, code="location.in-no-store")


def exact(text: str) -> str:
    """Names that are no text, as this machine's shell hands them over, written as the ids that the
    service knows.
    """
    return "/".join(map(_name, text.split("/")))


def _name(name: str) -> str:
    try:
        name.encode()
    except UnicodeEncodeError:
        return "pine-id:" + base64.urlsafe_b64encode(os.fsencode(name)).decode().rstrip("=")
    return name


def store_and_path(location: str) -> tuple[str, str]:
    """`pine://office/dawn/x` as `office` and `dawn/x`."""
    store, _, path = location.removeprefix(SCHEME).partition("/")
    return store, path
