"""Signing in over HTTP, as pure functions: Basic (RFC 7617), Digest (RFC 7616), Bearer (RFC
6750).
"""

from __future__ import annotations

import base64
import hashlib
import re
import secrets
from collections.abc import Sequence
from typing import NamedTuple

_PARAM = re.compile(
    r'\s*([A-Za-z0-9!#$%&\'*+.^_`|~-]+)\s*=\s*("(?:[^"\\]|\\.)*"|[^\s,]*)\s*(?:,|$)'
)
_SCHEME = re.compile(r"\s*,?\s*([A-Za-z0-9-]+)(?:\s+|\s*,\s*|\s*$)")
_HASHES = {"SHA-512-256": "sha512_256", "SHA-256": "sha256", "MD5": "md5"}  # the best first


class Challenge(NamedTuple):
    """What a server asks for. scheme: in small letters."""

    scheme: str
    params: dict[str, str]


class DavAccount(NamedTuple):
    """Who we are there. token: instead of user and password."""

    user: str = ""
    password: str = ""
    token: str = ""

    def __repr__(self) -> str:
        return f"DavAccount({self.user!r}, …)"


def challenges_of(lines: Sequence[str]) -> list[Challenge]:
    """The values of `WWW-Authenticate`, of which each may hold several (RFC 9110, section 11.6.1).

    What can't be read ends it.
    """
    found = []
    for line in lines:
        at = 0
        while scheme := _SCHEME.match(line, at):
            at = scheme.end()
            params = {}
            while param := _PARAM.match(line, at):
                at = param.end()
                params[param[1].lower()] = _unquoted(param[2])
            found.append(Challenge(scheme[1].lower(), params))
    return found


def _unquoted(text: str) -> str:
    if text.startswith('"'):
        return re.sub(r"\\(.)", r"\1", text[1:-1])
    return text


def basic(account: DavAccount) -> str:
    told = f"{account.user}:{account.password}".encode()
    return "Basic " + base64.b64encode(told).decode()


def best_digest(challenges: Sequence[Challenge]) -> Challenge | None:
    """The one with the best checksum of those that we can answer."""
    able = {
        algorithm_of(c).removesuffix("-SESS"): c
        for c in reversed(challenges)
        if c.scheme == "digest" and c.params.get("nonce") and _can_answer(c)
    }
    return next((able[name] for name in _HASHES if name in able), None)


def algorithm_of(challenge: Challenge) -> str:
    return challenge.params.get("algorithm", "MD5").upper()


def _can_answer(challenge: Challenge) -> bool:
    ways = [way.strip() for way in challenge.params.get("qop", "auth").split(",")]
    return algorithm_of(challenge).removesuffix("-SESS") in _HASHES and "auth" in ways


class Digest:
    """Answers to one challenge: each request has the next count of its nonce."""

    def __init__(self, challenge: Challenge, account: DavAccount) -> None:
        self._told = challenge.params
        self._account = account
        self._algorithm = algorithm_of(challenge)
        self._count = 0

    @property
    def nonce(self) -> str:
        return self._told["nonce"]

    def _secret(self, realm: str, cnonce: str) -> str:
        """What only who has the password can make; of an algorithm by session with its numbers."""
        account = self._account
        secret = self._hash(f"{account.user}:{realm}:{account.password}")
        if self._algorithm.endswith("-SESS"):
            secret = self._hash(f"{secret}:{self.nonce}:{cnonce}")
        return secret

    def answer(self, method: str, target: str, cnonce: str = "") -> str:
        """The Authorization header. target: as it stands in the request."""
        self._count += 1
        cnonce = cnonce or secrets.token_hex(8)
        count = f"{self._count:08x}"
        realm = self._told.get("realm", "")
        secret = self._secret(realm, cnonce)
        asked = self._hash(f"{method}:{target}")
        quoted = {
            "username": self._account.user,
            "realm": realm,
            "nonce": self.nonce,
            "uri": target,
        }
        bare = {}
        if "qop" in self._told:
            response = self._hash(f"{secret}:{self.nonce}:{count}:{cnonce}:auth:{asked}")
            quoted["cnonce"] = cnonce
            bare = {"qop": "auth", "nc": count}
        else:  # RFC 2069, which some servers still have
            response = self._hash(f"{secret}:{self.nonce}:{asked}")
        quoted["response"] = response
        if "opaque" in self._told:
            quoted["opaque"] = self._told["opaque"]
        if "algorithm" in self._told:
            bare["algorithm"] = self._told["algorithm"]
        fields = [f'{name}="{_escaped(value)}"' for name, value in quoted.items()]
        fields += [f"{name}={value}" for name, value in bare.items()]
        return "Digest " + ", ".join(fields)

    def _hash(self, text: str) -> str:
        name = _HASHES[self._algorithm.removesuffix("-SESS")]
        return hashlib.new(name, text.encode()).hexdigest()


def _escaped(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"')
