"""Signing in, people, sessions and tokens over HTTP."""

from __future__ import annotations

from typing import Any, cast

from django.contrib.auth import authenticate, login, logout
from django.contrib.auth.models import User
from django.middleware.csrf import get_token
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.exceptions import AuthenticationFailed, Throttled
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart import __version__
from pinecart.json_object import JsonObject
from pinecart.service.config.rights import ORDER, Actor, SignedIn, actor_in
from pinecart.service.config.settings import OPTIONS
from pinecart.service.config.shapes import checked
from pinecart.service.people import selectors
from pinecart.service.people.services import (
    entry_codes,
    people,
    second_factor,
    sessions,
    tokens,
    tries,
)
from pinecart.service.people.sign_in import SIGN_IN, address_of


def _rights(given: list[dict[str, str]]) -> people.Rights:
    return [(r["right"], r["label"]) for r in given]


def _try_begun(name: str, address: str) -> None:
    wait_s = tries.begin_try(name, address)
    if wait_s:
        raise Throttled(wait_s)


def _begin_session(request: Request, person: User) -> Actor | None:
    """A sign-in is a row of its own, so that it can be seen and ended from elsewhere. None: the
    person was switched off meanwhile.
    """
    login(request, person, backend="django.contrib.auth.backends.ModelBackend")
    agent = request.headers.get("User-Agent", "")
    request.session[SIGN_IN] = sessions.begin_session(
        person, address=address_of(request), agent=agent
    )
    return selectors.actor_of(person)


# --- the session that asks


class SessionShape(serializers.Serializer):
    name = serializers.CharField(allow_null=True, help_text="Null: nobody is signed in.")
    rights = serializers.ListField(
        child=serializers.CharField(), help_text="The rights held somewhere."
    )
    administers_all = serializers.BooleanField(
        help_text="The right to administer everything, not only what has a label."
    )
    second_factor = serializers.ChoiceField(
        ["off", "on", "due"], help_text="due: nothing else can be asked for before it is set up."
    )
    csrf = serializers.CharField(help_text="To be sent as X-CSRFToken with every change.")
    version = serializers.CharField()
    demo = serializers.BooleanField()


class SignInShape(serializers.Serializer):
    name = serializers.CharField()
    password = serializers.CharField(write_only=True, trim_whitespace=False)
    code = serializers.CharField(
        write_only=True,
        required=False,
        allow_blank=True,
        help_text="Of the second factor, if the person has one.",
    )


class Session(APIView):
    """Who is signed in with this cookie or token."""

    @extend_schema(responses=SessionShape)
    def get(self, request: Request) -> Response:
        """Who is signed in."""
        actor = request.user.actor if isinstance(request.user, SignedIn) else None
        return session_told(request, actor)

    @extend_schema(request=SignInShape, responses=SessionShape)
    def post(self, request: Request) -> Response:
        """Sign in with name and password, and the code of a second factor."""
        asked = checked(SignInShape, request.data)
        name = asked["name"]
        address = address_of(request)
        _try_begun(name, address)
        person = cast(
            "User | None", authenticate(request, username=name, password=asked["password"])
        )
        if person is None:
            tries.note_refused(name, address=address, why="password")
            raise AuthenticationFailed("Name or password are not right.")
        if not second_factor.is_right(person, asked.get("code", "")):
            # The try counts as failed, also where no code was given: who has learned the password
            # would else begin anew with each guess at a code.
            if asked.get("code"):
                tries.note_refused(name, address=address, why="second factor")
            refused = AuthenticationFailed(
                "This person has a second factor: give its code of now, which is taken once."
            )
            refused.forced_code = "second-factor.asked"  # type: ignore[attr-defined]
            raise refused
        tries.end_try(name, address)
        return session_told(request, _begin_session(request, person))

    @extend_schema(responses={204: None})
    def delete(self, request: Request) -> Response:
        """Sign out."""
        person = request.user
        if isinstance(person, SignedIn):
            sessions.sign_out(person.actor)
        logout(request)
        return Response(status=204)


def session_told(request: Request, actor: Actor | None) -> Response:
    has_factor = bool(actor and selectors.has_second_factor(actor.user_id or 0))
    return Response(
        {
            "name": actor and actor.name,
            "rights": [r.value for r in ORDER if actor and actor.may(r)],
            "administers_all": bool(actor and actor.may(ORDER[-1], [])),
            "second_factor": "due"
            if actor and actor.lacks_factor
            else "on"
            if has_factor
            else "off",
            "csrf": get_token(request),
            "version": __version__,
            "demo": bool(OPTIONS.demo),
        }
    )


class EntryShape(serializers.Serializer):
    code = serializers.CharField(write_only=True, max_length=100)
    password = serializers.CharField(write_only=True, trim_whitespace=False)


class EntryView(APIView):
    @extend_schema(request=EntryShape, responses=SessionShape)
    def post(self, request: Request) -> Response:
        """Set your password with the code that an administrator gave you.

        Whoever has a second factor signs in with it then.
        """
        person = entry_codes.enter_by_code(**checked(EntryShape, request.data))
        if selectors.has_second_factor(person.pk):
            return session_told(request, None)
        return session_told(request, _begin_session(request, person))


class PasswordShape(serializers.Serializer):
    old = serializers.CharField(write_only=True, trim_whitespace=False)
    new = serializers.CharField(write_only=True, trim_whitespace=False)


class OwnPassword(APIView):
    @extend_schema(request=PasswordShape, responses={204: None})
    def put(self, request: Request) -> Response:
        """Change your own password. Your other sessions end."""
        asked = checked(PasswordShape, request.data)
        actor = actor_in(request)
        address = address_of(request)
        _try_begun(actor.name, address)
        person = people.change_own_password(actor, **asked)
        tries.end_try(actor.name, address)
        if actor.sign_in is not None:
            login(request, person, backend="django.contrib.auth.backends.ModelBackend")
            request.session[SIGN_IN] = actor.sign_in
        return Response(status=204)


class PasswordAgainShape(serializers.Serializer):
    password = serializers.CharField(write_only=True, trim_whitespace=False)


class FactorShape(serializers.Serializer):
    secret = serializers.CharField(help_text="To be typed into an authenticator; told this once.")
    address = serializers.CharField(
        help_text="The same as an otpauth address, for a picture to be scanned."
    )


class FactorCodeShape(serializers.Serializer):
    code = serializers.CharField(write_only=True, max_length=20)


class SecondFactorView(APIView):
    @extend_schema(request=PasswordAgainShape, responses=FactorShape)
    def post(self, request: Request) -> Response:
        """Begin to set up your second factor.

        It is asked for once a first code has confirmed it.
        """
        actor = actor_in(request)
        _try_begun(actor.name, address_of(request))
        secret, address = second_factor.begin(actor, **checked(PasswordAgainShape, request.data))
        tries.end_try(actor.name, address_of(request))
        return Response({"secret": secret, "address": address})

    @extend_schema(request=FactorCodeShape, responses={204: None})
    def put(self, request: Request) -> Response:
        """Confirm your second factor with its first code."""
        actor = actor_in(request)
        address = address_of(request)
        _try_begun(actor.name, address)
        code = checked(FactorCodeShape, request.data)
        second_factor.confirm(actor, **code)
        tries.end_try(actor.name, address)
        return Response(status=204)


class SecondFactorOff(APIView):
    @extend_schema(request=PasswordAgainShape, responses={204: None})
    def post(self, request: Request) -> Response:
        """Take your second factor off."""
        actor = actor_in(request)
        address = address_of(request)
        _try_begun(actor.name, address)
        password = checked(PasswordAgainShape, request.data)
        second_factor.drop_own(actor, **password)
        tries.end_try(actor.name, address)
        return Response(status=204)


# --- sessions and tokens


class EverybodysAsked(serializers.Serializer):
    everybodys = serializers.BooleanField(
        default=False, help_text="For an administrator of everything."
    )


class OpenSessionShape(serializers.Serializer):
    id = serializers.IntegerField()
    of = serializers.CharField(help_text="Whose it is.")
    begun_at = serializers.DateTimeField()
    seen_at = serializers.DateTimeField(help_text="When it was last used, to the minute.")
    address = serializers.CharField()
    agent = serializers.CharField(help_text="What the browser says that it is.")
    this = serializers.BooleanField(help_text="The one that asks.")


class Sessions(APIView):
    @extend_schema(parameters=[EverybodysAsked], responses=OpenSessionShape(many=True))
    def get(self, request: Request) -> Response:
        """Your own sessions that go on; or everybody's."""
        asked = checked(EverybodysAsked, request.query_params)
        return Response(selectors.sessions_of(actor_in(request), everybodys=asked["everybodys"]))


class OpenSession(APIView):
    @extend_schema(responses={204: None})
    def delete(self, request: Request, number: int) -> Response:
        """End a session at once, with its streams."""
        sessions.end_session(actor_in(request), number)
        return Response(status=204)


class NewTokenShape(serializers.Serializer):
    name = serializers.CharField(max_length=63)
    person = serializers.CharField(required=False, help_text="For whom, if not for yourself.")
    days = serializers.IntegerField(required=False, min_value=0, max_value=36_500)
    right = serializers.ChoiceField(
        [r.value for r in ORDER],
        required=False,
        help_text="It carries no more than this; left out: all of its person's.",
    )
    starts = serializers.CharField(
        required=False,
        max_length=63,
        help_text="It may start this job by a call from outside, and do nothing else.",
    )
    reads_calendar = serializers.BooleanField(
        required=False,
        help_text="It may read the schedule as a calendar, by its address, and do nothing else.",
    )


class TokenShape(serializers.Serializer):
    id = serializers.IntegerField()
    name = serializers.CharField()
    of = serializers.CharField(help_text="Whose it is.")
    made_at = serializers.DateTimeField()
    expires_at = serializers.DateTimeField(allow_null=True)
    used_at = serializers.DateTimeField(
        allow_null=True, help_text="When it was last used, to the minute."
    )
    right = serializers.CharField(
        help_text="It carries no more than this; empty: all of its person's."
    )
    starts = serializers.CharField(help_text="It may start this job, and nothing else; or empty.")
    reads_calendar = serializers.BooleanField(
        help_text="It may read the schedule as a calendar, and nothing else."
    )


class MadeTokenShape(serializers.Serializer):
    token = serializers.CharField(help_text="Told this once.")


class Tokens(APIView):
    @extend_schema(parameters=[EverybodysAsked], responses=TokenShape(many=True))
    def get(self, request: Request) -> Response:
        """Your own living tokens; or everybody's."""
        asked = checked(EverybodysAsked, request.query_params)
        return Response(selectors.tokens_of(actor_in(request), everybodys=asked["everybodys"]))

    @extend_schema(request=NewTokenShape, responses={201: MadeTokenShape})
    def post(self, request: Request) -> Response:
        """Make a token for a program; its text is told this once."""
        asked = checked(NewTokenShape, request.data)
        actor = actor_in(request)
        text = tokens.make_token(
            actor,
            person=asked.get("person", actor.name),
            name=asked["name"],
            days=asked.get("days"),
            right=asked.get("right", ""),
            starts=asked.get("starts", ""),
            reads_calendar=asked.get("reads_calendar", False),
        )
        return Response({"token": text}, status=201)


class TokenView(APIView):
    @extend_schema(responses={204: None})
    def delete(self, request: Request, number: int) -> Response:
        """Revoke a token."""
        tokens.revoke_token(actor_in(request), number)
        return Response(status=204)


# --- people


class RightShape(serializers.Serializer):
    right = serializers.ChoiceField([r.value for r in ORDER])
    label = serializers.CharField(allow_blank=True, default="")  # type: ignore[assignment]


class NewPersonShape(serializers.Serializer):
    name = serializers.CharField()
    rights = RightShape(many=True)
    password = serializers.CharField(
        required=False,
        write_only=True,
        trim_whitespace=False,
        help_text="Left out: they set it by an entry code.",
    )


class EntryCodeShape(serializers.Serializer):
    code = serializers.CharField(
        help_text="Told this once. With it they set their password at /enter."
    )
    ends_at = serializers.DateTimeField()


class AddedPersonShape(serializers.Serializer):
    name = serializers.CharField()
    entry_code = EntryCodeShape(allow_null=True)


class PersonShape(serializers.Serializer):
    name = serializers.CharField()
    rights = RightShape(many=True)
    active = serializers.BooleanField(help_text="False: switched off.")
    second_factor = serializers.BooleanField()
    seen_at = serializers.DateTimeField(
        allow_null=True, help_text="When a browser of theirs was last seen."
    )
    code_ends_at = serializers.DateTimeField(
        allow_null=True, help_text="There is an entry code that ends then."
    )


class PersonChangeShape(serializers.Serializer):
    active = serializers.BooleanField(
        required=False, help_text="False: signed out everywhere, and tokens end."
    )
    password = serializers.CharField(required=False, write_only=True, trim_whitespace=False)
    rights = RightShape(many=True, required=False)
    second_factor = serializers.ChoiceField(
        [False], required=False, help_text="False: take it off."
    )


class People(APIView):
    @extend_schema(responses=PersonShape(many=True))
    def get(self, request: Request) -> Response:
        """Everybody, with their rights."""
        return Response(selectors.people_listed())

    @extend_schema(request=NewPersonShape, responses={201: AddedPersonShape})
    def post(self, request: Request) -> Response:
        """Add a person, with a password or an entry code."""
        actor = actor_in(request)
        asked = checked(NewPersonShape, request.data)
        name = asked["name"]
        password = asked.get("password")
        rights = _rights(asked["rights"])
        people.add_person(actor, name=name, password=password, rights=rights)
        told = {"name": name, "entry_code": None}
        if password is None:
            code, ends_at = entry_codes.make_entry_code(actor, name)
            told["entry_code"] = _code_told(code, ends_at)
        return Response(told, status=201)


def _code_told(code: str, ends_at: Any) -> JsonObject:
    return {"code": code, "ends_at": ends_at}


class PersonView(APIView):
    @extend_schema(request=PersonChangeShape, responses={204: None})
    def patch(self, request: Request, name: str) -> Response:
        """Switch a person off or on, give other rights, or a new password."""
        actor = actor_in(request)
        asked = checked(PersonChangeShape, request.data)
        if "rights" in asked:
            asked["rights"] = _rights(asked["rights"])
        people.change_person(actor, name, **asked)
        return Response(status=204)


class EntryCodeView(APIView):
    @extend_schema(request=None, responses={201: EntryCodeShape})
    def post(self, request: Request, name: str) -> Response:
        """Make an entry code, with which this person sets a new password. Ones made before end."""
        return Response(
            _code_told(*entry_codes.make_entry_code(actor_in(request), name)), status=201
        )
