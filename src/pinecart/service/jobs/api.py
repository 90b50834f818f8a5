from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart.core.option_spec import JOB
from pinecart.core.options import of_use
from pinecart.core.sentences import dangers, sentences
from pinecart.core.triggers import TRIGGERS
from pinecart.json_object import JsonObject
from pinecart.service.config.shapes import of_fields
from pinecart.service.jobs import selectors, services
from pinecart.service.jobs.facts import JobFacts
from pinecart.service.people.api import actor_in
from pinecart.service.runs.api import RunShape, started
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.presentation import run_told
from pinecart.service.runs.selectors import latest_runs, recent_marks
from pinecart.service.runs.services.life_cycle import start_run


def option_shapes(use: str, *, is_of_leg: bool) -> dict[str, serializers.Field]:
    """The options of a job ("job"), a one-off transfer ("carry") or removal ("remove")."""
    return of_fields([option.field for option in of_use(use, is_of_leg=is_of_leg)])


class LegShape(serializers.Serializer):
    """Two places, which files are taken and how they are called there."""

    one = serializers.ListField(
        child=serializers.CharField(),
        required=False,
        help_text="Only this file, and its name there.",
    )

    def get_fields(self) -> JsonObject:
        places = {
            "from": serializers.CharField(help_text="Take from: pine://STORE/PATH"),
            "to": serializers.CharField(help_text="Put to: pine://STORE/PATH"),
        }
        return places | option_shapes(JOB, is_of_leg=True) | super().get_fields()


class ScheduleShape(serializers.Serializer):
    """What starts it by itself: the fields of one kind of trigger."""

    def get_fields(self) -> JsonObject:
        kind = serializers.ChoiceField(list(TRIGGERS), required=False, help_text="clock, if empty.")
        fields = [field for trigger in TRIGGERS.values() for field in trigger.fields]
        return {"kind": kind} | of_fields(fields)


class DefinitionShape(serializers.Serializer):
    job = serializers.CharField()
    title = serializers.CharField(required=False, allow_blank=True)
    why = serializers.CharField(required=False, allow_blank=True)
    labels = serializers.ListField(child=serializers.CharField(), required=False)
    owner = serializers.CharField(required=False, allow_blank=True)
    legs = LegShape(many=True)
    schedule = ScheduleShape(required=False, allow_null=True)

    def get_fields(self) -> JsonObject:
        return super().get_fields() | option_shapes(JOB, is_of_leg=False)


class MarkShape(serializers.Serializer):
    id = serializers.IntegerField()
    outcome = serializers.CharField()
    at = serializers.DateTimeField()


class JobShape(serializers.Serializer):
    job = serializers.CharField()
    title = serializers.CharField()
    definition = DefinitionShape()
    version = serializers.IntegerField()
    is_on = serializers.BooleanField()
    saved_at = serializers.DateTimeField()
    next_due = serializers.DateTimeField(allow_null=True)
    sentences = serializers.ListField(child=serializers.CharField())
    dangers = serializers.ListField(
        child=serializers.CharField(),
        help_text="Those of the sentences that tell of what is removed or lost.",
    )
    last_run = RunShape(allow_null=True)
    last_audit = RunShape(allow_null=True)
    marks = MarkShape(many=True, help_text="Runs that ended in the last 14 days, oldest first.")


class CheckedShape(serializers.Serializer):
    definition = DefinitionShape()
    sentences = serializers.ListField(child=serializers.CharField())
    dangers = serializers.ListField(
        child=serializers.CharField(),
        help_text="Those of the sentences that tell of what is removed or lost.",
    )


class DueShape(serializers.Serializer):
    job = serializers.CharField()
    when = serializers.CharField(help_text="Its schedule, in words.")
    schedule = ScheduleShape()
    next_due = serializers.DateTimeField()
    is_on = serializers.BooleanField()


def told(record: JobFacts) -> JsonObject:
    definition = selectors.definition_of(record)
    last = latest_runs(record.name)
    return {
        "job": record.name,
        "title": definition.title,
        "definition": definition.as_mapping(),
        "version": record.version,
        "is_on": record.is_on,
        "saved_at": record.saved_at,
        "next_due": record.next_due,
        "sentences": sentences(definition),
        "dangers": dangers(definition),
        "last_run": last.get("transfer") and run_told(last["transfer"]),
        "last_audit": last.get("audit") and run_told(last["audit"]),
        "marks": recent_marks(record.name),
    }


class Jobs(APIView):
    @extend_schema(responses=JobShape(many=True))
    def get(self, request: Request) -> Response:
        """All jobs you may look at."""
        return Response([told(j) for j in selectors.jobs_seen(actor_in(request))])

    @extend_schema(request=DefinitionShape, responses={201: JobShape})
    def post(self, request: Request) -> Response:
        """Define a job."""
        return Response(told(services.define_job(actor_in(request), _mapping(request))), status=201)


class JobsCheck(APIView):
    @extend_schema(request=DefinitionShape, responses=CheckedShape)
    def post(self, request: Request) -> Response:
        """Check a definition without saving it: every problem at once, or what it will do, in
        sentences.
        """
        definition = services.checked_definition(actor_in(request), _mapping(request))
        return Response(
            {
                "definition": definition.as_mapping(),
                "sentences": sentences(definition),
                "dangers": dangers(definition),
            }
        )


class JobView(APIView):
    @extend_schema(responses=JobShape)
    def get(self, request: Request, name: str) -> Response:
        """One job."""
        return Response(told(selectors.job_named(name, actor_in(request))))

    @extend_schema(request=DefinitionShape, responses=JobShape)
    def put(self, request: Request, name: str) -> Response:
        """Save a new version of a job."""
        return Response(told(services.change_job(actor_in(request), name, _mapping(request))))

    @extend_schema(responses={204: None})
    def delete(self, request: Request, name: str) -> Response:
        """Forget a job. Its runs stay; nothing it carried is touched."""
        services.drop_job(actor_in(request), name)
        return Response(status=204)


class JobStart(APIView):
    @extend_schema(request=None, responses={201: RunShape})
    def post(self, request: Request, name: str) -> Response:
        """Start a run of a job."""
        return started(_start(request, name, "transfer"))


def _start(request: Request, name: str, kind: str, *, wait: bool = False) -> RunFacts:
    actor = actor_in(request)
    definition = selectors.definition_of(selectors.job_named(name, actor))
    return start_run(actor, definition, kind=kind, cause=f"started by {actor.name}", waits=wait)


class LookShape(serializers.Serializer):
    wait = serializers.BooleanField(
        default=False, help_text="Begin only once no run of the job is under way."
    )


class JobPreview(APIView):
    kind = "preview"

    @extend_schema(request=LookShape, responses={201: RunShape})
    def post(self, request: Request, name: str) -> Response:
        """Work out what a run would do, without doing it."""
        shape = LookShape(data=request.data)
        shape.is_valid(raise_exception=True)
        wait = shape.validated_data["wait"]
        run = _start(request, name, self.kind, wait=wait)
        return started(run)


class JobAudit(JobPreview):
    """Compare both sides and what is remembered, without transferring."""

    kind = "audit"


class ScheduleView(APIView):
    @extend_schema(responses=DueShape(many=True))
    def get(self, request: Request) -> Response:
        """What will run when, the next first."""
        return Response(selectors.schedule_seen(actor_in(request)))


def _mapping(request: Request) -> JsonObject:
    """The definition as given: core checks it, and names every problem in its own words."""
    return dict(request.data) if isinstance(request.data, dict) else {}
