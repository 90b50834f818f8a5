"""Jobs in files: given out, taken in, and what such a file may hold."""

from __future__ import annotations

from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart.core.job_files import read_yaml, write_yaml
from pinecart.core.job_schema import job_schema
from pinecart.core.job_tables import read_table
from pinecart.core.sentences import dangers, sentences
from pinecart.json_object import JsonObject
from pinecart.service.config.rights import actor_in
from pinecart.service.config.shapes import checked
from pinecart.service.jobs import selectors
from pinecart.service.jobs.services.importing import SAME, Imported, import_jobs
from pinecart.service.jobs.shapes import DifferenceShape


class JobFilesAsked(serializers.Serializer):
    job = serializers.ListField(
        child=serializers.CharField(), required=False, help_text="Of these; none: of all."
    )


class JobFilesShape(serializers.Serializer):
    text = serializers.CharField(help_text="YAML, one job a document.")
    jobs = serializers.ListField(child=serializers.CharField())


class JobsGivenShape(serializers.Serializer):
    text = serializers.CharField(trim_whitespace=False)
    form = serializers.ChoiceField(["yaml", "csv"], default="yaml")
    job = serializers.CharField(
        required=False,
        allow_blank=True,
        default="",
        help_text="Of a table without a column name: the job that its rows are legs of.",
    )
    stores = serializers.DictField(
        child=serializers.CharField(), required=False, help_text="Store in the text → store here."
    )
    only_check = serializers.BooleanField(
        default=True, help_text="Only tell what would change; false: save it."
    )


class ImportedShape(serializers.Serializer):
    job = serializers.CharField()
    change = serializers.ChoiceField(["new", "changed", "same"])
    differences = DifferenceShape(many=True)
    sentences = serializers.ListField(child=serializers.CharField())
    dangers = serializers.ListField(child=serializers.CharField())


class JobsImportedShape(serializers.Serializer):
    jobs = ImportedShape(many=True)
    differ = serializers.IntegerField(help_text="How many are new or changed.")
    saved = serializers.BooleanField()


class JobFiles(APIView):
    @extend_schema(parameters=[JobFilesAsked], responses=JobFilesShape)
    def get(self, request: Request) -> Response:
        """Jobs as a file to keep; secrets are never in it."""
        actor = actor_in(request)
        names = request.query_params.getlist("job")
        if names:
            records = [selectors.job_named(name, actor) for name in names]
        else:
            records = selectors.jobs_seen(actor)
        text = write_yaml(record.definition for record in records)
        return Response({"text": text, "jobs": [record.name for record in records]})

    @extend_schema(request=JobsGivenShape, responses=JobsImportedShape)
    def post(self, request: Request) -> Response:
        """What a file of jobs or a table would change; and, when asked to, change it: all or
        nothing.
        """
        actor = actor_in(request)
        asked = checked(JobsGivenShape, request.data)
        text = asked["text"]
        save = not asked["only_check"]
        is_table = asked["form"] == "csv"
        given = read_table(text, asked["job"]) if is_table else read_yaml(text)
        stores = asked.get("stores") or {}
        found = import_jobs(actor, given, stores, save=save)
        jobs = [_told(one) for one in found]
        differ = sum(one.change != SAME for one in found)
        return Response({"jobs": jobs, "differ": differ, "saved": save})


def _told(one: Imported) -> JsonObject:
    return {
        "job": one.definition.job,
        "change": one.change,
        "differences": [difference._asdict() for difference in one.differences],
        "sentences": sentences(one.definition),
        "dangers": dangers(one.definition),
    }


class JobSchema(APIView):
    @extend_schema(responses=OpenApiTypes.OBJECT)
    def get(self, request: Request) -> Response:
        """The JSON Schema of a job file."""
        return Response(job_schema())
