from __future__ import annotations

from typing import cast

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
from pinecart.service.config.rights import ORDER, Actor, SignedIn
from pinecart.service.config.settings import OPTIONS
from pinecart.service.people import selectors, services


def actor_in(request: Request) -> Actor:
    return cast(SignedIn, request.user).actor


class RightShape(serializers.Serializer):
    right = serializers.ChoiceField([r.value for r in ORDER])
    label = serializers.CharField(allow_blank=True, default="")  # type: ignore[assignment]


class SessionShape(serializers.Serializer):
    name = serializers.CharField(allow_null=True, help_text="Null: nobody is signed in.")
    rights = serializers.ListField(child=serializers.CharField(), help_text="The rights held somewhere.")
    csrf = serializers.CharField(help_text="To be sent as X-CSRFToken with every change.")
    version = serializers.CharField()
    demo = serializers.BooleanField()


class SignInShape(serializers.Serializer):
    name = serializers.CharField()
    password = serializers.CharField(write_only=True, trim_whitespace=False)


class PersonShape(serializers.Serializer):
    name = serializers.CharField()
    password = serializers.CharField(write_only=True, trim_whitespace=False)
    rights = RightShape(many=True)
    active = serializers.BooleanField(read_only=True)


class NewTokenShape(serializers.Serializer):
    name = serializers.CharField(max_length=63)
    person = serializers.CharField(required=False, help_text="For whom, if not for yourself.")
    days = serializers.IntegerField(required=False, min_value=0, max_value=36_500)
    right = serializers.ChoiceField(
        [r.value for r in ORDER],
        required=False,
        help_text="It carries no more than this; left out: all of its person's.",
    )


class TokenShape(serializers.Serializer):
    id = serializers.IntegerField()
    name = serializers.CharField()
    of = serializers.CharField(help_text="Whose it is.")
    made_at = serializers.DateTimeField()
    expires_at = serializers.DateTimeField(allow_null=True)
    used_at = serializers.DateTimeField(allow_null=True, help_text="When it was last used, to the minute.")
    right = serializers.CharField(help_text="It carries no more than this; empty: all of its person's.")


class MadeTokenShape(serializers.Serializer):
    token = serializers.CharField(help_text="Told this once.")


class Session(APIView):
    """Who is signed in with this cookie or token."""

    @extend_schema(responses=SessionShape)
    def get(self, request: Request) -> Response:
        """Who is signed in."""
        actor = request.user.actor if isinstance(request.user, SignedIn) else None
        return self._told(request, actor)

    @extend_schema(request=SignInShape, responses=SessionShape)
    def post(self, request: Request) -> Response:
        """Sign in with name and password."""
        shape = SignInShape(data=request.data)
        shape.is_valid(raise_exception=True)
        name, address = shape.validated_data["name"], request.META.get("REMOTE_ADDR", "")
        if wait_s := services.begin_try(name, address):
            raise Throttled(wait_s)
        user = authenticate(request, username=name, password=shape.validated_data["password"])
        services.note_sign_in(name, address=address, worked=user is not None)
        if user is None:
            raise AuthenticationFailed("Name or password are not right.")
        services.end_try(name, address)
        login(request, user)
        return self._told(request, selectors.actor_of(user.pk))

    @extend_schema(responses={204: None})
    def delete(self, request: Request) -> Response:
        """Sign out."""
        if isinstance(request.user, SignedIn):
            services.note_sign_out(request.user.actor)
        logout(request)
        return Response(status=204)

    def _told(self, request: Request, actor: Actor | None) -> Response:
        rights = [r.value for r in ORDER if actor and actor.may(r)]
        body = {"name": actor and actor.name, "rights": rights, "csrf": get_token(request), "version": __version__}
        return Response(body | {"demo": bool(OPTIONS.demo)})


class People(APIView):
    @extend_schema(responses=PersonShape(many=True))
    def get(self, request: Request) -> Response:
        """Everybody, with their rights."""
        return Response(selectors.people_listed())

    @extend_schema(request=PersonShape, responses={201: PersonShape})
    def post(self, request: Request) -> Response:
        """Add a person."""
        shape = PersonShape(data=request.data)
        shape.is_valid(raise_exception=True)
        found = shape.validated_data
        rights = [(r["right"], r["label"]) for r in found["rights"]]
        services.add_person(actor_in(request), name=found["name"], password=found["password"], rights=rights)
        return Response({"name": found["name"], "rights": found["rights"], "active": True}, status=201)


class PersonChangeShape(serializers.Serializer):
    active = serializers.BooleanField(required=False, help_text="False: signed out everywhere, and tokens end.")
    password = serializers.CharField(required=False, write_only=True, trim_whitespace=False)
    rights = RightShape(many=True, required=False)


class PersonView(APIView):
    @extend_schema(request=PersonChangeShape, responses={204: None})
    def patch(self, request: Request, name: str) -> Response:
        """Switch a person off or on, give other rights, or a new password."""
        shape = PersonChangeShape(data=request.data)
        shape.is_valid(raise_exception=True)
        found = shape.validated_data
        rights = [(r["right"], r["label"]) for r in found["rights"]] if "rights" in found else None
        services.change_person(
            actor_in(request), name, active=found.get("active"), password=found.get("password"), rights=rights
        )
        return Response(status=204)


class PasswordShape(serializers.Serializer):
    old = serializers.CharField(write_only=True, trim_whitespace=False)
    new = serializers.CharField(write_only=True, trim_whitespace=False)


class OwnPassword(APIView):
    @extend_schema(request=PasswordShape, responses={204: None})
    def put(self, request: Request) -> Response:
        """Change your own password. Your other sessions end."""
        shape = PasswordShape(data=request.data)
        shape.is_valid(raise_exception=True)
        actor, address = actor_in(request), request.META.get("REMOTE_ADDR", "")
        if wait_s := services.begin_try(actor.name, address):
            raise Throttled(wait_s)
        services.change_own_password(actor, **shape.validated_data)
        services.end_try(actor.name, address)
        if actor.token is None:
            login(request, User.objects.get(pk=actor.user_id or 0))
        return Response(status=204)


class TokensAsked(serializers.Serializer):
    everybodys = serializers.BooleanField(default=False, help_text="For an administrator of everything.")


class Tokens(APIView):
    @extend_schema(parameters=[TokensAsked], responses=TokenShape(many=True))
    def get(self, request: Request) -> Response:
        """Your own living tokens; or everybody's."""
        asked = TokensAsked(data=request.query_params)
        asked.is_valid(raise_exception=True)
        return Response(selectors.tokens_of(actor_in(request), everybodys=asked.validated_data["everybodys"]))

    @extend_schema(request=NewTokenShape, responses={201: MadeTokenShape})
    def post(self, request: Request) -> Response:
        """Make a token for a program; its text is told this once."""
        shape = NewTokenShape(data=request.data)
        shape.is_valid(raise_exception=True)
        found, actor = shape.validated_data, actor_in(request)
        text = services.make_token(
            actor,
            person=found.get("person", actor.name),
            name=found["name"],
            days=found.get("days"),
            right=found.get("right", ""),
        )
        return Response({"token": text}, status=201)


class TokenView(APIView):
    @extend_schema(responses={204: None})
    def delete(self, request: Request, number: int) -> Response:
        """Revoke a token."""
        services.revoke_token(actor_in(request), number)
        return Response(status=204)
