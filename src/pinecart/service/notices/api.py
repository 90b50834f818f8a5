"""Who is told of what, and whether it has reached them."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart.core.happenings import Kind
from pinecart.service.config.rights import actor_in
from pinecart.service.config.shapes import checked
from pinecart.service.notices import selectors, services, trying

KINDS = [kind.value for kind in Kind]


class NewNoticeShape(serializers.Serializer):
    way = serializers.ChoiceField(["mail", "web", "marker"])
    to = serializers.ListField(
        child=serializers.CharField(max_length=500),
        help_text="E-mail addresses; the address that is called; or the place of the marker.",
    )
    kinds = serializers.ListField(child=serializers.ChoiceField(KINDS))
    job = serializers.CharField(default="", allow_blank=True, help_text="Empty: all.")
    label = serializers.CharField(  # type: ignore[assignment]
        default="", allow_blank=True, help_text="Empty: all."
    )
    is_on = serializers.BooleanField(default=True)
    quiet = serializers.CharField(
        default="",
        allow_blank=True,
        max_length=60,
        help_text="Hours in which nothing is sent, but after them: 22:00-06:00 Europe/London.",
    )
    once_at = serializers.CharField(
        default="",
        allow_blank=True,
        max_length=60,
        help_text="All in one message a day, at this time: 07:30 Europe/London. Empty: at once.",
    )


class NoticeChangeShape(serializers.Serializer):
    to = serializers.ListField(child=serializers.CharField(max_length=500), required=False)
    kinds = serializers.ListField(child=serializers.ChoiceField(KINDS), required=False)
    job = serializers.CharField(required=False, allow_blank=True)
    label = serializers.CharField(  # type: ignore[assignment]
        required=False, allow_blank=True
    )
    is_on = serializers.BooleanField(required=False)
    quiet = serializers.CharField(required=False, allow_blank=True, max_length=60)
    once_at = serializers.CharField(required=False, allow_blank=True, max_length=60)


class NoticeShape(NewNoticeShape):
    id = serializers.IntegerField()
    waiting = serializers.IntegerField(help_text="Messages that are still to be sent.")
    sent_at = serializers.DateTimeField(allow_null=True)
    message = serializers.CharField(help_text="Why the last try failed; empty: it didn't.")


class NoticeMadeShape(NoticeShape):
    secret = serializers.CharField(help_text="Web calls are signed with it. Told this once.")


class HappeningShape(serializers.Serializer):
    name = serializers.CharField(help_text="Its stable id.")
    kind = serializers.ChoiceField(KINDS)
    job = serializers.CharField()
    run = serializers.IntegerField(allow_null=True)
    at = serializers.DateTimeField()
    words = serializers.CharField()
    path = serializers.CharField(help_text="Of the console's page where to look.")
    over_at = serializers.DateTimeField(allow_null=True)


class DeliveryShape(HappeningShape):
    id = serializers.IntegerField()
    notice = serializers.IntegerField()
    way = serializers.CharField()
    to = serializers.ListField(child=serializers.CharField())
    tries = serializers.IntegerField()
    sent_at = serializers.DateTimeField(allow_null=True)
    next_try = serializers.DateTimeField(allow_null=True)
    given_up = serializers.BooleanField()
    message = serializers.CharField()


class DeliveriesAsked(serializers.Serializer):
    notice = serializers.IntegerField(default=0)
    limit = serializers.IntegerField(default=100, min_value=1, max_value=1000)


class NoticeTriedShape(serializers.Serializer):
    ok = serializers.BooleanField()
    message = serializers.CharField()


class MailShape(serializers.Serializer):
    host = serializers.CharField(allow_blank=True, max_length=255)
    port = serializers.IntegerField(default=587, min_value=1, max_value=65535)
    security = serializers.ChoiceField(services.SECURITY, default="starttls")
    user = serializers.CharField(default="", allow_blank=True, max_length=255)
    sender = serializers.CharField(allow_blank=True, max_length=255)
    address = serializers.CharField(
        default="", allow_blank=True, max_length=255, help_text="Of the console, for links."
    )
    has_password = serializers.BooleanField(read_only=True)


class NewMailShape(MailShape):
    password = serializers.CharField(required=False, allow_blank=True, write_only=True)


class Notices(APIView):
    @extend_schema(responses=NoticeShape(many=True))
    def get(self, request: Request) -> Response:
        """Who is told of what."""
        return Response([selectors.rule_told(rule) for rule in selectors.rules()])

    @extend_schema(request=NewNoticeShape, responses={201: NoticeMadeShape})
    def post(self, request: Request) -> Response:
        """Tell somebody, from now on."""
        actor = actor_in(request)
        given = checked(NewNoticeShape, request.data)
        rule, secret = services.add_rule(actor, given)
        told = selectors.rule_told(rule)
        told["secret"] = secret
        return Response(told, status=201)


class Notice(APIView):
    @extend_schema(request=NoticeChangeShape, responses=NoticeShape)
    def patch(self, request: Request, number: int) -> Response:
        """Change who is told, or of what."""
        actor = actor_in(request)
        given = checked(NoticeChangeShape, request.data)
        rule = services.change_rule(actor, number, given)
        return Response(selectors.rule_told(rule))

    @extend_schema(responses={204: None})
    def delete(self, request: Request, number: int) -> Response:
        """Tell them no more; what is on its way to them is forgotten."""
        services.drop_rule(actor_in(request), number)
        return Response(status=204)


class NoticeTry(APIView):
    @extend_schema(request=None, responses=NoticeTriedShape)
    def post(self, request: Request, number: int) -> Response:
        """Send a message now, that only tells that it is a try."""
        why = trying.try_rule(actor_in(request), number)
        return Response({"ok": not why, "message": why or "It was sent."})


class Deliveries(APIView):
    @extend_schema(parameters=[DeliveriesAsked], responses=DeliveryShape(many=True))
    def get(self, request: Request) -> Response:
        """What was told to whom, and what is still on its way; the newest first."""
        actor = actor_in(request)
        asked = checked(DeliveriesAsked, request.query_params)
        rule = asked["notice"]
        limit = asked["limit"]
        found = selectors.deliveries(actor, rule=rule, limit=limit)
        return Response(found)


class Mail(APIView):
    @extend_schema(operation_id="mail_show", responses=MailShape)
    def get(self, request: Request) -> Response:
        """Where e-mail is handed in."""
        return Response(selectors.mail_told())

    @extend_schema(request=NewMailShape, responses=MailShape)
    def put(self, request: Request) -> Response:
        """Change where e-mail is handed in."""
        given = checked(NewMailShape, request.data)
        return Response(services.change_mail(actor_in(request), given))
