"""How a caller is known: a program by bearer token, a browser by cookie with CSRF protection."""

from __future__ import annotations

from typing import Any, NamedTuple

from django.conf import settings
from django.contrib.auth import get_user
from django.contrib.auth.models import User
from django.http import HttpRequest
from django.utils import timezone
from drf_spectacular.extensions import OpenApiAuthenticationExtension
from rest_framework import authentication
from rest_framework.exceptions import AuthenticationFailed
from rest_framework.request import Request

from pinecart.json_object import JsonObject
from pinecart.service.config.rights import Actor, Right, SignedIn
from pinecart.service.people.selectors import actor_of, sign_in_numbered, token_found
from pinecart.service.people.services.sessions import note_use
from pinecart.service.people.session_store import SessionStore

SIGN_IN = "sign_in"  # under which a browser's session remembers its number
WHY = {
    "unknown": "This token is not known here. Sign in again: pinecart login URL.",
    "revoked": "This token was revoked. Ask for a new one, and sign in again.",
    "expired": "This token has expired. Ask for a new one, and sign in again.",
    "in-address": (
        "This token can do more than show a calendar, and doesn't belong into an address, which "
        "gets written down on its way: revoke it, and make one with --calendar."
    ),
}


def address_of(request: HttpRequest | Request) -> str:
    return str(request.META.get("REMOTE_ADDR", ""))[:60]


class ByToken(authentication.BaseAuthentication):
    def authenticate(self, request: Request) -> tuple[SignedIn, str] | None:
        """None: no such header, so that another way is asked. Raises where there is one and it
        isn't right: no other way may help it.
        """
        header = request.headers.get("Authorization", "")
        scheme, _, text = header.partition(" ")
        if scheme.lower() != "bearer":
            return None
        found = _signed_in(request, text.strip())
        return found, text

    def authenticate_header(self, request: Request) -> str:
        return "Bearer"


class ByAddress(ByToken):
    """A calendar sends no headers: its token is in the address, and no other token is taken there,
    since addresses get written down on their way.
    """

    def authenticate(self, request: Request) -> tuple[SignedIn, str] | None:
        """A calendar program sends no headers: its token stands in the address, and is good for
        nothing else.
        """
        text = request.query_params.get("key", "")
        if not text:
            return None
        return _signed_in(request, text, is_in_address=True), text


def _signed_in(request: Request, text: str, *, is_in_address: bool = False) -> SignedIn:
    """Raises AuthenticationFailed."""
    token, why = token_found(text, timezone.now())
    if token and is_in_address and not token.reads_calendar:
        raise _refused("in-address")
    actor = actor_of(token.person, token) if token else None
    if token and actor:
        note_use(token, token.used_at)
    if actor is None:
        raise _refused(why or "revoked")
    return SignedIn(actor._replace(address=address_of(request)))


def _refused(why: str) -> AuthenticationFailed:
    """why: one of WHY."""
    failed = AuthenticationFailed(WHY[why])
    failed.forced_code = f"token.{why}"  # type: ignore[attr-defined]
    return failed


class ByCookie(authentication.SessionAuthentication):
    def authenticate(self, request: Request) -> tuple[SignedIn, None] | None:
        """By the browser's session, as long as its sign-in hasn't been ended and the person is
        there. Its use is noted, to the minute.
        """
        found = super().authenticate(request)
        if found is None:
            return None
        number = request.session.get(SIGN_IN) or 0
        sign_in = sign_in_numbered(number, timezone.now())
        if sign_in is None:
            return None
        actor = actor_of(found[0], sign_in=sign_in)
        if actor is None:
            return None
        note_use(sign_in, sign_in.seen_at)
        address = address_of(request)
        return SignedIn(actor._replace(address=address)), None


class KnownSender(NamedTuple):
    name: str
    may_operate: bool


def known(request: HttpRequest) -> KnownSender | None:
    """None: nobody we know. Whoever may only start one job or read a calendar is known, and may not
    operate.
    """
    actor = actor_by_headers(request)
    if actor is None:
        return None
    may_operate = actor.may(Right.OPERATE) and not (actor.starts or actor.reads_calendar)
    return KnownSender(actor.name, may_operate)


def actor_by_headers(request: HttpRequest) -> Actor | None:
    """Who sends this request, as things are now; None: nobody is known by its token, or its session
    has ended.
    """
    scheme, _, text = request.headers.get("Authorization", "").partition(" ")
    if scheme.lower() == "bearer":
        token, _ = token_found(text.strip(), timezone.now())
        if token:
            return actor_of(token.person, token)
        return None
    cookie = request.COOKIES.get(settings.SESSION_COOKIE_NAME)
    request.session = SessionStore(cookie)
    person = get_user(request)
    number = request.session.get(SIGN_IN) or 0
    sign_in = sign_in_numbered(number, timezone.now())
    if sign_in is None or not isinstance(person, User):
        return None
    return actor_of(person, sign_in=sign_in)


class _TokenDescribed(OpenApiAuthenticationExtension):
    target_class = ByToken
    name = "token"

    def get_security_definition(self, auto_schema: Any) -> JsonObject:
        return {"type": "http", "scheme": "bearer"}


class _AddressDescribed(OpenApiAuthenticationExtension):
    target_class = ByAddress
    name = "calendar"

    def get_security_definition(self, auto_schema: Any) -> JsonObject:
        return {"type": "apiKey", "in": "query", "name": "key"}


class _CookieDescribed(OpenApiAuthenticationExtension):
    target_class = ByCookie
    name = "cookie"

    def get_security_definition(self, auto_schema: Any) -> JsonObject:
        return {"type": "apiKey", "in": "cookie", "name": "pinecart_session"}
