from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart.core.option_spec import CARRY, REMOVE
from pinecart.core.sentences import dangers, sentences
from pinecart.json_object import JsonObject
from pinecart.service.carries import services
from pinecart.service.config.rights import actor_in
from pinecart.service.config.shapes import checked
from pinecart.service.jobs.api import counted_told
from pinecart.service.jobs.api import told as job_told
from pinecart.service.jobs.services.counting import count_definition
from pinecart.service.jobs.shapes import JobShape, LegCountedShape, option_shapes
from pinecart.service.runs.api import asked
from pinecart.service.runs.presentation import inventory_level, run_told
from pinecart.service.runs.selectors import run_numbered, runs_seen
from pinecart.service.runs.shapes import AuditRulesShape, RunsAsked, RunShape


class CarryShape(serializers.Serializer):
    make_bucket = serializers.BooleanField(
        required=False, help_text="Make the destination's bucket if there is none."
    )
    preview = serializers.BooleanField(
        required=False, help_text="Only work out what would be done."
    )

    def get_fields(self) -> JsonObject:
        """Its two places, and every option that a carry has a use for: of its one leg, and of the
        whole.
        """
        places = {
            "from": serializers.CharField(help_text="Take from: pine://STORE/PATH"),
            "to": serializers.CharField(help_text="Put to: pine://STORE/PATH"),
        }
        options = [option_shapes(CARRY, is_of_leg=is_of_leg) for is_of_leg in (True, False)]
        return places | options[0] | options[1] | super().get_fields()


class ExampleShape(serializers.Serializer):
    def get_fields(self) -> JsonObject:
        return {"from": serializers.CharField(), "to": serializers.CharField()}


class CarriedShape(serializers.Serializer):
    run = RunShape(allow_null=True)
    sentences = serializers.ListField(child=serializers.CharField())
    dangers = serializers.ListField(
        child=serializers.CharField(),
        help_text="Those of the sentences that tell of what is removed or lost.",
    )
    example = ExampleShape(allow_null=True, help_text="One file's location here and there.")
    counted = LegCountedShape(
        many=True, help_text="Of a check: what lies at both sides, and what each intent would do."
    )


class KeepShape(serializers.Serializer):
    job = serializers.CharField()


class Carries(APIView):
    check_only = False

    @extend_schema(request=CarryShape, responses={201: CarriedShape})
    def post(self, request: Request) -> Response:
        """Carry files once, without defining a job; or only preview it."""
        given = dict(request.data) if isinstance(request.data, dict) else {}
        actor = actor_in(request)
        meant = services.meant_by(actor, given)
        if self.check_only:
            run = None
        else:
            run = services.start_carry(
                actor,
                meant,
                preview=bool(given.get("preview")),
                new_bucket=bool(given.get("make_bucket")),
            )
        example = meant.example and {"from": meant.example[0], "to": meant.example[1]}
        body: JsonObject = {
            "run": run and run_told(run),
            "sentences": sentences(meant.definition),
            "dangers": dangers(meant.definition),
            "example": example,
            "counted": [],
        }
        if self.check_only:
            counted = count_definition(actor, meant.definition)
            body["counted"] = [counted_told(one) for one in counted]
        return Response(body, status=200 if self.check_only else 201)


class CarriesCheck(Carries):
    """What two places mean, and what would be done with them, in sentences; nothing is started."""

    check_only = True


class AuditPlacesShape(AuditRulesShape):
    take = serializers.ListField(child=serializers.CharField(), required=False)
    leave_out = serializers.ListField(child=serializers.CharField(), required=False)

    def get_fields(self) -> JsonObject:
        places = {
            "from": serializers.CharField(help_text="Here: pine://STORE/PATH"),
            "to": serializers.CharField(help_text="There: pine://STORE/PATH"),
        }
        return places | super().get_fields()


class AuditOfPlaces(APIView):
    @extend_schema(request=AuditPlacesShape, responses={201: RunShape})
    def post(self, request: Request) -> Response:
        """Compare two places, without a job and without transferring."""
        actor = actor_in(request)
        asked = checked(AuditPlacesShape, request.data)
        run = services.start_audit(actor, asked)
        return Response(run_told(run), status=201)


class InventoryAskedShape(serializers.Serializer):
    location = serializers.CharField(help_text="A folder, a bucket or a store: pine://STORE/PATH")


class Inventories(APIView):
    @extend_schema(parameters=[RunsAsked], responses=RunShape(many=True))
    def get(self, request: Request) -> Response:
        """Inventories, the newest first."""
        actor = actor_in(request)
        wanted = asked(RunsAsked, request)
        found = runs_seen(actor, kind="inventory", **wanted)
        told = [run_told(run) for run in found]
        return Response(told)

    @extend_schema(request=InventoryAskedShape, responses={201: RunShape})
    def post(self, request: Request) -> Response:
        """Count what lies in a place: by folder, age and kind, and the largest."""
        actor = actor_in(request)
        given = checked(InventoryAskedShape, request.data)
        run = services.start_inventory(actor, given["location"])
        return Response(run_told(run), status=201)


class SumShape(serializers.Serializer):
    name = serializers.CharField()
    objects = serializers.IntegerField()
    bytes = serializers.IntegerField()


class FolderSumShape(serializers.Serializer):
    key = serializers.CharField(help_text="Below the place, ending in /; empty: the place itself.")
    key_id = serializers.CharField()
    objects = serializers.IntegerField()
    bytes = serializers.IntegerField()
    newest_ns = serializers.IntegerField(help_text="ns since 1970 UTC; 0: nothing tells it.")
    others = serializers.ListField(
        child=serializers.IntegerField(),
        help_text="Its folders that are not told apart: so many, their files and bytes.",
    )


class LargestShape(serializers.Serializer):
    key = serializers.CharField()
    key_id = serializers.CharField()
    bytes = serializers.IntegerField()
    modified_ns = serializers.IntegerField()


class InventoryShape(RunShape):
    folder = FolderSumShape(allow_null=True, help_text="Null: it is not done, or cleared away.")
    inside = FolderSumShape(
        many=True, help_text="Folders directly in that folder, the largest first."
    )
    ages = SumShape(many=True)
    kinds = SumShape(many=True, help_text="By a file's ending.")
    largest = LargestShape(many=True)


class InventoryAsked(serializers.Serializer):
    folder = serializers.CharField(
        default="", allow_blank=True, trim_whitespace=False, help_text="Its key_id."
    )


class InventoryView(APIView):
    @extend_schema(parameters=[InventoryAsked], responses=InventoryShape)
    def get(self, request: Request, number: int) -> Response:
        """One inventory: a folder with the folders in it; ages, kinds and the largest of all."""
        actor = actor_in(request)
        wanted = asked(InventoryAsked, request)
        run = run_numbered(number, actor, "inventory")
        level = inventory_level(run, wanted["folder"])
        return Response(run_told(run) | level)


class RemovalShape(serializers.Serializer):
    preview = serializers.BooleanField(required=False)

    def get_fields(self) -> JsonObject:
        location = serializers.CharField(help_text="One file, or a folder: pine://STORE/PATH")
        options = [option_shapes(REMOVE, is_of_leg=is_of_leg) for is_of_leg in (True, False)]
        return {"location": location} | options[0] | options[1] | super().get_fields()


class RemovalStartedShape(serializers.Serializer):
    run = RunShape()
    sentences = serializers.ListField(child=serializers.CharField())
    dangers = serializers.ListField(
        child=serializers.CharField(),
        help_text="Those of the sentences that tell of what is removed or lost.",
    )


class Removals(APIView):
    @extend_schema(request=RemovalShape, responses={201: RemovalStartedShape})
    def post(self, request: Request) -> Response:
        """Remove files.

        The run lists them, and waits until its list is released; or only preview it.
        """
        given = dict(request.data) if isinstance(request.data, dict) else {}
        actor = actor_in(request)
        definition = services.removal_meant(actor, given)
        run = services.start_removal(actor, definition, preview=bool(given.get("preview")))
        return Response(
            {
                "run": run_told(run),
                "sentences": sentences(definition),
                "dangers": dangers(definition),
            },
            status=201,
        )


class RunKeep(APIView):
    @extend_schema(request=KeepShape, responses={201: JobShape})
    def post(self, request: Request, number: int) -> Response:
        """Keep a carry as a job."""
        shape = KeepShape(data=request.data)
        shape.is_valid(raise_exception=True)
        return Response(
            job_told(services.keep_as_job(actor_in(request), number, shape.validated_data["job"])),
            status=201,
        )
