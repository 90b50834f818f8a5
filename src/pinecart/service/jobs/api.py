from __future__ import annotations

from statistics import median
from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart.core.audit import AuditRules
from pinecart.core.definition import Definition
from pinecart.core.definition_reading import read_definition
from pinecart.core.differences import differences
from pinecart.core.part import read_part
from pinecart.core.places import key_text, show
from pinecart.core.sentences import dangers, sentences
from pinecart.json_object import JsonObject
from pinecart.service.config.rights import actor_in
from pinecart.service.config.shapes import checked
from pinecart.service.jobs import selectors
from pinecart.service.jobs.facts import JobFacts
from pinecart.service.jobs.selectors import JobSeen, JobsWanted
from pinecart.service.jobs.services import saving
from pinecart.service.jobs.services.calling import call_job
from pinecart.service.jobs.services.checking import checked_definition
from pinecart.service.jobs.services.counting import LegCounted, count_draft
from pinecart.service.jobs.services.due import next_due, schedule_seen
from pinecart.service.jobs.services.exactly import start_exactly
from pinecart.service.jobs.services.explaining import LegExplained, explain_file
from pinecart.service.jobs.services.looking_over import look_over
from pinecart.service.jobs.services.repairing import preview_repair
from pinecart.service.jobs.shapes import (
    AuditAskedShape,
    BackShape,
    CalledShape,
    CheckedShape,
    CopyShape,
    DefinitionShape,
    DueShape,
    ExplainAsked,
    ExplanationShape,
    JobLinesShape,
    JobsAsked,
    JobShape,
    JobVersionShape,
    LegCountedShape,
    LookedOverShape,
    PartShape,
    PreviewAskedShape,
    ScheduleAsked,
    SwitchShape,
)
from pinecart.service.runs.api import started
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.presentation import run_told
from pinecart.service.runs.selectors import latest_runs
from pinecart.service.runs.services.life_cycle import new_audit, start_run
from pinecart.service.runs.shapes import RunShape


def told(record: JobFacts) -> JsonObject:
    definition = selectors.definition_of(record)
    last = latest_runs(record.name)
    return {
        "job": record.name,
        "title": definition.title,
        "definition": definition.as_mapping(),
        "version": record.version,
        "is_on": record.is_on,
        "switched": _switched(record),
        "saved_at": record.saved_at,
        "next_due": record.next_due,
        "when": definition.trigger.describe() if definition.trigger else "",
        "due": next_due(definition, 10) if record.is_on else [],
        "sentences": sentences(definition),
        "dangers": dangers(definition),
        "last_run": last.get("transfer") and run_told(last["transfer"]),
        "last_audit": last.get("audit") and run_told(last["audit"]),
    }


def _line(found: JobSeen) -> JsonObject:
    record = found.record
    recent = found.recent
    definition = record.definition
    took = [run["seconds"] for run in recent if run["state"] == "ended" and run["seconds"]]
    return {
        "job": record.name,
        "title": definition["title"],
        "labels": definition["labels"],
        "owner": definition["owner"],
        "intent": definition["intent"],
        "legs": [{"from": leg["from"], "to": leg["to"]} for leg in definition["legs"]],
        "is_on": record.is_on,
        "version": record.version,
        "next_due": record.next_due,
        "recent": recent,
        "last_bytes": found.last_bytes,
        "usual_s": median(took) if took else None,
    }


def _switched(record: JobFacts) -> JsonObject | None:
    if record.switched_at is None:
        return None
    return {"by": record.switched_by, "at": record.switched_at, "why": record.switched_why}


class Jobs(APIView):
    @extend_schema(operation_id="jobs_list", parameters=[JobsAsked], responses=JobLinesShape)
    def get(self, request: Request) -> Response:
        """The jobs you may look at: sought, sorted, a page of them."""
        actor = actor_in(request)
        asked = checked(JobsAsked, request.query_params)
        wanted = JobsWanted(**asked)
        found, total = selectors.jobs_found(actor, wanted)
        lines = [_line(job) for job in found]
        return Response({"jobs": lines, "total": total})

    @extend_schema(request=DefinitionShape, responses={201: JobShape})
    def post(self, request: Request) -> Response:
        """Define a job."""
        return Response(told(saving.define_job(actor_in(request), _mapping(request))), status=201)


class JobsCheck(APIView):
    @extend_schema(request=DefinitionShape, responses=CheckedShape)
    def post(self, request: Request) -> Response:
        """Check a definition without saving it: every problem at once, or what it will do, in
        sentences.
        """
        definition = checked_definition(actor_in(request), _mapping(request))
        return Response(_meant(definition))


def _meant(definition: Definition) -> JsonObject:
    return {
        "definition": definition.as_mapping(),
        "due": next_due(definition, 10),
        "sentences": sentences(definition),
        "dangers": dangers(definition),
    }


class JobsLook(APIView):
    @extend_schema(request=DefinitionShape, responses=LookedOverShape)
    def post(self, request: Request) -> Response:
        """Check a definition, and ask its stores as well: whether they answer, whether anything is
        taken, who else writes there. Nothing is carried.
        """
        actor = actor_in(request)
        definition = checked_definition(actor, _mapping(request))
        findings = [finding._asdict() for finding in look_over(actor, definition)]
        return Response({**_meant(definition), "findings": findings})


class JobsCount(APIView):
    @extend_schema(request=DefinitionShape, responses=LegCountedShape(many=True))
    def post(self, request: Request) -> Response:
        """What a definition that isn't saved would do, counted at a glance, for each intent: of the
        first names in their order where there are very many.
        """
        found = count_draft(actor_in(request), _mapping(request))
        return Response([counted_told(one) for one in found])


def counted_told(one: LegCounted) -> JsonObject:
    places = {"from": one.leg.source.text, "to": one.leg.target.text}
    if one.counted is None:
        return {"places": places, "message": one.message, "counted": None}
    found = one.counted
    amounts = {
        "here": {"objects": found.source.objects, "bytes": found.source.bytes},
        "there": {"objects": found.there.objects, "bytes": found.there.bytes},
    }
    example = None
    if found.example:
        here, there = map(key_text, found.example)
        example = {"from": places["from"] + here, "to": places["to"] + there}
    counted = {
        **amounts,
        "left_out": dict(found.left_out),
        "by_intent": {intent.value: dict(n) for intent, n in found.by_intent.items()},
        "is_all": found.is_all,
        "example": example,
    }
    return {"places": places, "message": "", "counted": counted}


class JobView(APIView):
    @extend_schema(responses=JobShape)
    def get(self, request: Request, name: str) -> Response:
        """One job."""
        return Response(told(selectors.job_named(name, actor_in(request))))

    @extend_schema(request=DefinitionShape, responses=JobShape)
    def put(self, request: Request, name: str) -> Response:
        """Save a new version of a job."""
        return Response(told(saving.change_job(actor_in(request), name, _mapping(request))))

    @extend_schema(responses={204: None})
    def delete(self, request: Request, name: str) -> Response:
        """Forget a job. Its runs stay; nothing it carried is touched."""
        saving.drop_job(actor_in(request), name)
        return Response(status=204)


class JobVersions(APIView):
    @extend_schema(responses=JobVersionShape(many=True))
    def get(self, request: Request, name: str) -> Response:
        """Every definition it had, the newest first, and what each changed."""
        record = selectors.job_named(name, actor_in(request))
        versions = selectors.versions_of(record)
        before = [*versions[1:], None]
        pairs = zip(versions, before, strict=True)
        told = [_version_told(version, earlier) for version, earlier in pairs]
        return Response(told)


def _version_told(version: Any, before: Any) -> JsonObject:
    changed = differences(before.definition, version.definition) if before else []
    return {
        "version": version.number,
        "saved_at": version.saved_at,
        "saved_by": version.saved_by,
        "definition": version.definition,
        "sentences": sentences(read_definition(version.definition)),
        "differences": [difference._asdict() for difference in changed],
    }


class JobBack(APIView):
    @extend_schema(request=BackShape, responses=JobShape)
    def post(self, request: Request, name: str) -> Response:
        """Save a version that was before as the newest."""
        actor = actor_in(request)
        asked = checked(BackShape, request.data)
        version = asked["version"]
        record = saving.go_back(actor, name, version)
        return Response(told(record))


class JobSwitch(APIView):
    @extend_schema(request=SwitchShape, responses=JobShape)
    def post(self, request: Request, name: str) -> Response:
        """Switch a job on or off: whether it may be started by itself."""
        asked = checked(SwitchShape, request.data)
        return Response(told(saving.switch_job(actor_in(request), name, **asked)))


class JobCopy(APIView):
    @extend_schema(request=CopyShape, responses={201: JobShape})
    def post(self, request: Request, name: str) -> Response:
        """Define the same job under another name, or the way back."""
        actor = actor_in(request)
        asked = checked(CopyShape, request.data)
        other = asked["job"]
        turned = asked["turned"]
        made = saving.copy_job(actor, name, other, turned=turned)
        return Response(told(made), status=201)


class JobExplain(APIView):
    @extend_schema(parameters=[ExplainAsked], responses=ExplanationShape(many=True))
    def get(self, request: Request, name: str) -> Response:
        """Why a file is carried, or isn't: each rule, what it said, and the one that decided."""
        key = checked(ExplainAsked, request.query_params)["key"]
        return Response([_explained(one) for one in explain_file(actor_in(request), name, key)])


def _explained(one: LegExplained) -> JsonObject:
    """Steps in the order in which they were looked at; without a decision where the key isn't one
    that the leg takes.
    """
    verdict = one.explanation.verdict
    return {
        "leg": one.number,
        "places": {"from": one.leg.source.text, "to": one.leg.target.text},
        "key": show(one.explanation.key),
        "decision": verdict.decision.value if verdict else "",
        "reason": verdict.reason.value if verdict else "",
        "steps": [step._asdict() for step in one.explanation.steps],
        "records": one.records,
    }


class JobStart(APIView):
    @extend_schema(request=PartShape, responses={201: RunShape})
    def post(self, request: Request, name: str) -> Response:
        """Start a run of a job, or of a part of it."""
        part = checked(PartShape, request.data or {})
        return started(_start(request, name, "transfer", part=part))


def _start(
    request: Request,
    name: str,
    kind: str,
    *,
    part: JsonObject,
    wait: bool = False,
    audit: AuditRules | None = None,
) -> RunFacts:
    actor = actor_in(request)
    record = selectors.job_named(name, actor)
    definition = selectors.definition_of(record)
    of = read_part(part, len(definition.legs))
    cause = f"started by {actor.name}"
    return start_run(
        actor,
        definition,
        kind=kind,
        cause=cause,
        waits=wait,
        part=of,
        version=record.version,
        audit=audit,
    )


class JobCall(APIView):
    @extend_schema(request=None, responses={201: CalledShape})
    def post(self, request: Request, name: str) -> Response:
        """Start a job by a call from outside. However often it is called, one run waits at most:
        what is called for while it waits is done by that one.
        """
        run = call_job(actor_in(request), name)
        return Response({"run": run.pk, "state": run.state}, status=201)


class JobPreview(APIView):
    @extend_schema(request=PreviewAskedShape, responses={201: RunShape})
    def post(self, request: Request, name: str) -> Response:
        """Work out what a run, or a part of one, would do, without doing it."""
        given = request.data or {}
        part = checked(PreviewAskedShape, given)
        wait = part.pop("wait")
        run = _start(request, name, "preview", part=part, wait=wait)
        return started(run)


class PreviewStart(APIView):
    @extend_schema(request=None, responses={201: RunShape})
    def post(self, request: Request, number: int) -> Response:
        """Carry out exactly what a preview found: what is no longer as it was then is listed as
        overtaken, and left.
        """
        return started(start_exactly(actor_in(request), number))


class JobAudit(APIView):
    @extend_schema(request=AuditAskedShape, responses={201: RunShape})
    def post(self, request: Request, name: str) -> Response:
        """Compare both sides and what is remembered, without transferring."""
        given = request.data or {}
        asked = checked(AuditAskedShape, given)
        rules = new_audit(asked)
        run = _start(request, name, "audit", part={}, wait=asked["wait"], audit=rules)
        return started(run)


class AuditRepair(APIView):
    @extend_schema(request=None, responses={201: RunShape})
    def post(self, request: Request, number: int) -> Response:
        """Look ahead at what it would take to make right what an audit found; carry it out with
        `POST previews/NUMBER/start`.
        """
        return started(preview_repair(actor_in(request), number))


class ScheduleView(APIView):
    @extend_schema(parameters=[ScheduleAsked], responses=DueShape(many=True))
    def get(self, request: Request) -> Response:
        """What will run when, the next first."""
        days = checked(ScheduleAsked, request.query_params)["days"]
        return Response(schedule_seen(actor_in(request), days))


def _mapping(request: Request) -> JsonObject:
    """The definition as given: core checks it, and names every problem in its own words."""
    if isinstance(request.data, dict):
        return dict(request.data)
    return {}
