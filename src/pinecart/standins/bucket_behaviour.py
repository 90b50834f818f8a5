"""How the stand-in for a bucket store can be told to behave, and who may do what there."""

from __future__ import annotations

from dataclasses import dataclass

OLD_WAYS = (
    "conditions-refused",  # a conditional write is answered 501
    "conditions-ignored",  # … or carried out as if there were no condition
    "conditions-of-writes-alone",  # … those of a copy, and of making an object of parts, are
    "if-match-unknown",  # of the conditions it knows `If-None-Match` alone
    "conditions-of-another-etag",  # … are held against an ETag that nobody is told
    "checksums-ignored",
    "listing-1",  # knows only listing version 1
    "listing-cut",
    "listing-unordered",
    "listing-repeats",
    "folders-come-again",  # … also those before the name after which a listing shall begin
    "listing-in-circles",  # whatever is listed goes on, and each page is the first one
    "checksums-untold",  # verified, and never given back
    "token-raw",  # a listing's token is the last key as it is, whatever XML can hold
    "copies-garble-tags",
    "etags-opaque",  # no MD5s, as where objects are encrypted
    "puts-tell-no-etag",
)


@dataclass
class Account:
    """session: the token that a temporary key needs with every request."""

    secret: str
    may_write: bool = True
    session: str = ""


@dataclass
class Behaviour:
    """How one kind of request is treated. times: how often it fails (-1: always). match: only keys
    that contain it.

    lost: the request is carried out, and its answer is lost (the line is cut).
    """

    delay_s: float = 0
    per_second: float = 0
    fail: str = ""
    times: int = -1
    match: str = ""
    lost: bool = False
