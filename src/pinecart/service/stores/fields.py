"""The fields of each kind of store, checked before anything is saved or reached."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

from pinecart.core.errors import Invalid
from pinecart.core.pasting import read_pasted
from pinecart.core.places import is_name
from pinecart.service.config.refusals import RightMissing
from pinecart.service.config.state import Options

OF_PROXY = ("proxy_user", "proxy_password")
SECRETS = ("secret", "session_token", *OF_PROXY)
KINDS: dict[str, tuple[tuple[str, ...], tuple[str, ...]]] = {  # kind → (needed, optional)
    "folder": (("path",), ("links", "marker", "read_back", "most_at_once")),
    "s3": (
        ("endpoint", "key_id", "secret"),
        (
            "region",
            "root",
            "session_token",
            *OF_PROXY,
            "anonymous",
            "addressing",
            "certificate",
            "proxy",
            "connect_s",
            "silence_s",
            "most_at_once",
            "sign_payload",
        ),
    ),
}
MOST_AT_ONCE = 256
LINKS = ("refuse", "skip", "follow", "keep")
ADDRESS = ("endpoint", "proxy", "certificate")  # changing one of these needs the secret again


class Form(NamedTuple):
    """A store as given. secret: empty if none was given (a change that keeps the old one)."""

    name: str
    kind: str
    fields: dict[str, Any]
    secret: dict[str, str]


def read_form(
    given: dict[str, Any],
    options: Options,
    state_folder: Path,
    *,
    old: dict[str, Any] | None = None,
) -> Form:
    """Check a form; `old` are the present fields of a store that is changed.

    Raises Invalid, NotAllowed.
    """
    problems: list[dict[str, str]] = []

    def wrong(field: str, code: str, message: str) -> None:
        problems.append({"field": field, "code": code, "message": message})

    if given.get("pasted"):
        given = read_pasted(str(given["pasted"])).fields | {
            k: v for k, v in given.items() if v not in (None, "")
        }
    name, kind = str(given.get("name", "")), str(given.get("kind", ""))
    if not is_name(name):
        wrong(
            "name",
            "store.name",
            f"{name!r} can't be a store's name: use small letters, digits and hyphens, 63 at most.",
        )
    if kind not in KINDS:
        wrong(
            "kind",
            "store.kind",
            f"{kind!r} is no kind of store. Choose one of: {', '.join(KINDS)}.",
        )
        raise Invalid(problems)
    needed, optional = KINDS[kind]
    values = {
        k: str(v).strip()
        for k, v in {**(old or {}), **given}.items()
        if k in needed + optional and v is not None
    }
    if values.get("anonymous", "").lower() in ("", "false"):
        values.pop("anonymous", None)
    else:
        needed = tuple(f for f in needed if f not in ("key_id", "secret"))
    for field in needed:
        if not values.get(field) and not (old is not None and field in SECRETS):
            wrong(field, "store.field-missing", f"A {kind} store needs {field}.")
    if (
        old is not None
        and not values.get("secret")
        and any((values.get(f) or "") != (old.get(f) or "") for f in ADDRESS)
    ):
        wrong(
            "secret",
            "store.secret-again",
            "A new address needs the secret again, so that it is never sent elsewhere unasked.",
        )
    if (
        kind == "s3"
        and values.get("endpoint")
        and not values["endpoint"].startswith(("http://", "https://"))
    ):
        wrong(
            "endpoint",
            "store.address",
            (
                f"{values['endpoint']!r} is no endpoint: write it as https://HOST or "
                "https://HOST:PORT."
            ),
        )
    _no_passwords_in_addresses(values, wrong)
    if values.get("links") not in (None, "", *LINKS):
        wrong("links", "store.links", f"Links are {', '.join(LINKS)}, not {values['links']!r}.")
    if "/" in values.get("marker", "") or values.get("marker") in (".", ".."):
        wrong(
            "marker",
            "store.marker",
            "A marker is the name of a file that lies in the folder itself, without any /.",
        )
    for field in ("read_back", "sign_payload"):
        if values.get(field) not in (None, "", "yes", "no"):
            wrong(field, "store.yes-or-no", f"{field} is 'yes' or 'no', not {values[field]!r}.")
    if (most := values.get("most_at_once")) and not (
        most.isdecimal() and 1 <= int(most) <= MOST_AT_ONCE
    ):
        message = (
            f"most_at_once is a number from 1 to {MOST_AT_ONCE}, not {most!r}; without one it is "
            "found by trying."
        )
        wrong("most_at_once", "store.most-at-once", message)
    if values.get("addressing") not in (None, "", "path", "host"):
        wrong(
            "addressing",
            "store.addressing",
            "Buckets are addressed by 'path' (the usual) or by 'host'.",
        )
    for field in ("connect_s", "silence_s"):
        if values.get(field) and not values[field].replace(".", "", 1).isdigit():
            wrong(
                field,
                "store.seconds",
                f"{field} must be a number of seconds, not {values[field]!r}.",
            )
    if values.get("certificate") and "BEGIN CERTIFICATE" not in values["certificate"]:
        wrong(
            "certificate",
            "store.certificate-malformed",
            "Give the certificate as text, from -----BEGIN CERTIFICATE----- on.",
        )
    if problems:
        raise Invalid(problems)
    if kind == "folder":
        values["path"] = allowed_folder(values["path"], options, state_folder)
        if values.get("marker") and not os.path.isfile(
            os.path.join(values["path"], values["marker"])
        ):
            message = (
                f"There is no file {values['marker']} in {values['path']}. Make it first, on the "
                "disk itself."
            )
            raise Invalid([{"field": "marker", "code": "store.no-marker", "message": message}])
    secret = {f: values.pop(f) for f in SECRETS if values.get(f)}
    return Form(name, kind, values, secret)


def _no_passwords_in_addresses(
    values: dict[str, Any], wrong: Callable[[str, str, str], None]
) -> None:
    for field in ("endpoint", "proxy"):
        if "@" in values.get(field, ""):
            told = (
                "; a proxy's are fields of their own, proxy_user and proxy_password"
                if field == "proxy"
                else ""
            )
            wrong(
                field,
                "store.password-in-address",
                f"An address has no user and no password in it{told}.",
            )
            values.pop(field)


def allowed_folder(path: str, options: Options, state_folder: Path) -> str:
    """The real path, if it lies in a folder that the service was started with.

    Raises NotAllowed, naming the option.
    """
    if not os.path.isabs(path):
        raise Invalid(
            [
                {
                    "field": "path",
                    "code": "store.path",
                    "message": f"{path!r}: give the folder's whole path, from / on.",
                }
            ]
        )
    real = os.path.realpath(path)
    if is_in(real, str(state_folder)):
        raise RightMissing(
            f"{path} is Pine Cart's own state folder. It is never a store.",
            code="store.state-folder",
        )
    allowed = [os.path.realpath(f) for f in options.folders]
    if not any(is_in(real, f) for f in allowed):
        told = ", ".join(allowed) or "none"
        message = (
            f"{path} lies outside the folders that this service may use (now: {told}). Start it "
            f"with: pinecart serve --folders {real}"
        )
        raise RightMissing(message, code="store.folder-not-allowed", folders=allowed)
    if not os.path.isdir(real):
        message = f"{path}: there is no such folder on the service's machine. Make it first."
        raise Invalid([{"field": "path", "code": "store.no-folder", "message": message}])
    return real


def is_in(inner: str, outer: str) -> bool:
    return inner == outer or inner.startswith(outer.rstrip("/") + "/")
