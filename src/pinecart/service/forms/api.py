from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart.core.form_fields import FieldType
from pinecart.core.options import OPTIONS
from pinecart.core.triggers import TRIGGERS
from pinecart.drivers import DRIVERS
from pinecart.service.runs.report_formats import REPORT_FORMATS


class ChoiceShape(serializers.Serializer):
    value = serializers.CharField()
    title = serializers.CharField()
    is_danger = serializers.BooleanField(help_text="It removes, or loses something.")


class FieldShape(serializers.Serializer):
    name = serializers.CharField()
    type = serializers.ChoiceField([t.value for t in FieldType])
    title = serializers.CharField()
    is_needed = serializers.BooleanField()
    needed_unless = serializers.CharField(
        allow_blank=True, help_text="A flag that makes it needless."
    )
    is_sealed = serializers.BooleanField(help_text="Kept sealed, and never told.")
    is_common = serializers.BooleanField(help_text="Asked for at once; else among what few need.")
    example = serializers.CharField(allow_blank=True)
    choices = ChoiceShape(many=True)
    least = serializers.IntegerField()
    most = serializers.IntegerField()

    def get_fields(self) -> dict[str, serializers.Field]:
        texts = {
            "help": serializers.CharField(allow_blank=True),
            "default": serializers.CharField(
                allow_blank=True, help_text="In words: what is so without it."
            ),
        }
        return super().get_fields() | texts


class OptionShape(FieldShape):
    is_of_leg = serializers.BooleanField(help_text="Each leg has its own.")
    used_in = serializers.ListField(
        child=serializers.ChoiceField(["job", "carry", "remove"]),
        help_text="Jobs, one-off transfers, one-off removals.",
    )
    shown_for = serializers.ListField(
        child=serializers.CharField(),
        help_text="The intents for which it is asked for; empty: all.",
    )


class StoreKindShape(serializers.Serializer):
    kind = serializers.CharField()
    title = serializers.CharField()
    has_buckets = serializers.BooleanField()
    bound_by = serializers.ListField(
        child=serializers.CharField(), help_text="The fields that say which place it is."
    )

    def get_fields(self) -> dict[str, serializers.Field]:
        return super().get_fields() | {"fields": FieldShape(many=True)}


class TriggerKindShape(serializers.Serializer):
    kind = serializers.CharField()
    title = serializers.CharField()

    def get_fields(self) -> dict[str, serializers.Field]:
        return super().get_fields() | {"fields": FieldShape(many=True)}


class ReportFormatShape(serializers.Serializer):
    name = serializers.CharField()
    title = serializers.CharField()
    media_type = serializers.CharField()


class FormsShape(serializers.Serializer):
    stores = StoreKindShape(many=True)
    job_options = OptionShape(many=True)
    triggers = TriggerKindShape(many=True)
    report_formats = ReportFormatShape(many=True)


class Forms(APIView):
    authentication_classes = ()

    @extend_schema(responses=FormsShape)
    def get(self, request: Request) -> Response:
        """The fields of each kind of store, the options of a job, the kinds of trigger and the
        formats of a report. Open to all, like the API's description.
        """
        return Response(
            {
                "stores": [driver.described() for driver in DRIVERS.values()],
                "job_options": [option.described() for option in OPTIONS.values()],
                "triggers": [kind.described() for kind in TRIGGERS.values()],
                "report_formats": [one.described() for one in REPORT_FORMATS.values()],
            }
        )
