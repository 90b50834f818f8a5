"""What one kind of store is to the rest: its form, how it is opened and tried, and what it can do.
The API, the command line, the console, pasting and the docs follow from it.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass
from importlib import import_module
from typing import Any
from urllib.parse import SplitResult, urlsplit

from pinecart.core.estimates import price_of
from pinecart.core.form_fields import Choice, FieldType, FormField
from pinecart.core.pasting import PasteRules
from pinecart.core.ports import Store
from pinecart.drivers.connection_steps import Step
from pinecart.json_object import JsonObject

Fields = Mapping[str, Any]
MOST_AT_ONCE = FormField(
    "most_at_once",
    FieldType.NUMBER,
    "At once, at most",
    "So many requests, or files, over all runs.",
    default="found by trying",
    is_common=False,
    least=1,
    most=256,
)
RUNS_AT_ONCE = FormField(
    "runs_at_once",
    FieldType.NUMBER,
    "Runs at once, at most",
    "So many runs may work with it; others wait their turn.",
    default="as many as the service carries out",
    is_common=False,
    least=1,
    most=64,
)
CONNECT_S = FormField(
    "connect_s", FieldType.SECONDS, "Connecting takes at most", "Seconds.", is_common=False
)
SILENCE_S = FormField(
    "silence_s",
    FieldType.SECONDS,
    "Silence lasts at most",
    "Seconds that an answer may stay silent.",
    is_common=False,
)
LIMITS = (CONNECT_S, SILENCE_S, MOST_AT_ONCE, RUNS_AT_ONCE)  # of the way to another machine


def _is_price(value: str) -> str:
    if price_of(value) is not None:
        return ""
    return "A price is a number such as 0.0054."


PRICES = (
    FormField(
        "price_requests",
        FieldType.TEXT,
        "Price of 1,000 requests",
        "For the estimates of previews, in whatever currency.",
        example="0.0054",
        is_common=False,
        check=_is_price,
        code="store.price",
    ),
    FormField(
        "price_out",
        FieldType.TEXT,
        "Price of a GiB taken out",
        "For the estimates of previews, in the same currency.",
        example="0.09",
        is_common=False,
        check=_is_price,
        code="store.price",
    ),
)
LINKS = FormField(
    "links",
    FieldType.CHOICE,
    "Links in it",
    "Links are refused and listed, skipped, followed inside the folder, or kept as links.",
    choices=(
        Choice("refuse", "Refused and listed"),
        Choice("skip", "Skipped"),
        Choice("follow", "Followed, inside this folder"),
        Choice("keep", "Kept as links"),
    ),
    default="refuse",
)
PROOFS = (
    Choice("yes", "Each file is read back"),
    Choice("no", "Nothing is read back"),
)
YES_OR_NO = (Choice("yes", "Yes"), Choice("no", "No"))


def http_parts(value: str) -> SplitResult | None:
    """Of a plain http or https address; None: it is none, or has more than host, port and path."""
    try:
        parts = urlsplit(value)
        is_address = bool(parts.hostname) and parts.port != 0  # a port that is none raises
    except ValueError:
        return None
    is_plain = parts.scheme in ("http", "https") and not (parts.query or parts.fragment)
    if is_address and is_plain:
        return parts
    return None


def confined_to(bucket: str, account: str) -> FormField:
    """bucket, account: what these are called there."""
    return FormField(
        "root",
        FieldType.TEXT,
        "Confined to",
        f"Confine it to this {bucket}, or {bucket}/prefix.",
        default=f"all {bucket}s of this {account}",
    )


def as_prefix(root: bytes) -> bytes:
    """What keys below a root begin with: itself and a slash; nothing where it is the whole."""
    return root + b"/" if root else b""


def root_of(fields: Fields) -> bytes:
    """Where in its system a store with a `root` begins."""
    root = str(fields.get("root") or "").strip("/").encode("utf-8", "surrogateescape")
    return as_prefix(root)


def _is_certificate(value: str) -> str:
    if "BEGIN CERTIFICATE" in value:
        return ""
    return "Give the certificate as text, from -----BEGIN CERTIFICATE----- on."


HTTP_LINE = (
    FormField(
        "certificate",
        FieldType.BLOCK,
        "Certificate",
        "The authority's, as PEM text, where this machine doesn't know it.",
        check=_is_certificate,
        code="store.certificate-malformed",
        is_common=False,
    ),
    FormField(
        "proxy",
        FieldType.ADDRESS,
        "Proxy",
        "http://HOST:PORT, without a user or a password.",
        is_common=False,
    ),
    FormField(
        "proxy_user",
        FieldType.TEXT,
        "User at the proxy",
        "Who we are at the proxy.",
        is_sealed=True,
        goes_with="proxy",
        is_common=False,
    ),
    FormField(
        "proxy_password",
        FieldType.UNSEEN,
        "Password at the proxy",
        "With which password, at the proxy.",
        is_sealed=True,
        goes_with="proxy",
        is_common=False,
    ),
)  # how a server is reached over HTTP, besides its address


class Late:
    """A part of a driver that is loaded as it is first called: the libraries of some protocols take
    longer to load than all else, and most processes never use them.
    """

    def __init__(self, module: str, name: str) -> None:
        self._module = module
        self._name = name

    def load(self) -> Any:
        return getattr(import_module(self._module), self._name)

    def __call__(self, *args: Any) -> Any:
        return self.load()(*args)


def nothing_more(fields: Fields) -> JsonObject:
    return {}


def no_buckets(fields: Fields) -> bool:
    return False


@dataclass(frozen=True)
class DriverSpec:
    """One kind of store.

    title: as a form shows it.   fields: of its form, in order.   open: from the fields, `name`, its
    secrets and what belongs to the service (`abilities`, `allowed`, `forbidden`, `run`).
    try_it: adds steps to a list; `write_to` names a place to write at, empty: don't.
    system: which storage it really is: two stores of one system may reach the same place.
    root: where in that system it begins.   bound_by: the fields that say which place it is.
    guards_secret: a change of one of these needs the secret again, so that it is never sent
    elsewhere unasked.   on_saving: what is looked up when it is saved, and kept with its fields;
    raises Invalid.   shows_buckets: its first level is buckets.   keeps: what it can hold of
    core.keeping.KEPT.   gives: what of it its own files have.   cautions: what somebody should know
    before writing there, a sentence each.   places: what an address without credentials says of
    where something lies, as fields; None: as it is pasted.
    """

    kind: str
    title: str
    fields: tuple[FormField, ...]
    open: Callable[[Mapping[str, Any]], Store]
    try_it: Callable[[Mapping[str, Any], str, list[Step]], Awaitable[None]]
    system: Callable[[Fields], str]
    root: Callable[[Fields], bytes]
    bound_by: tuple[str, ...]
    pasting: PasteRules
    guards_secret: tuple[str, ...] = ()
    on_saving: Callable[[Fields], JsonObject] = nothing_more
    shows_buckets: Callable[[Fields], bool] = no_buckets
    keeps: frozenset[str] = frozenset()
    gives: frozenset[str] = frozenset()
    cautions: tuple[str, ...] = ()
    places: Callable[[str], Fields] | None = None

    @property
    def sealed(self) -> tuple[str, ...]:
        """The fields that are kept sealed and never told."""
        return tuple(f.name for f in self.fields if f.is_sealed)

    @property
    def is_local(self) -> bool:
        """Whether its files lie in a folder of the service's machine, its `path`."""
        return any(f.type is FieldType.FOLDER for f in self.fields)

    @property
    def has_buckets(self) -> bool:
        """Whether it has such a thing as a bucket, in some form of it."""
        return self.shows_buckets is not no_buckets

    def field(self, name: str) -> FormField:
        return next(f for f in self.fields if f.name == name)

    def address(self, fields: Fields) -> str:
        """Where it is, in one word: the first field that binds it."""
        return str(fields.get(self.bound_by[0]) or "")

    def place(self, address: str) -> tuple[str, bytes] | None:
        """In which system, and where in it, an address leads; None: it is none of this kind."""
        fields = (self.places or self.pasting.address)(address)
        try:
            if fields:
                return (self.system(fields), self.root(fields))
            return None
        except KeyError:
            return None  # it doesn't say enough

    def described(self) -> JsonObject:
        return {
            "kind": self.kind,
            "title": self.title,
            "has_buckets": self.has_buckets,
            "bound_by": list(self.bound_by),
            "fields": [f.described() for f in self.fields],
        }
