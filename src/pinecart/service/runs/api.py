from __future__ import annotations

from asgiref.sync import sync_to_async
from django.http import HttpRequest, StreamingHttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiResponse, extend_schema
from rest_framework import serializers
from rest_framework.exceptions import Throttled
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart.core.definition_reading import read_definition
from pinecart.core.sentences import sentences
from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import UnknownName
from pinecart.service.config.rights import Right, actor_in
from pinecart.service.config.shapes import checked
from pinecart.service.config.streaming import streamed
from pinecart.service.people.sign_in import actor_by_headers
from pinecart.service.runs import presentation, proofs, selectors
from pinecart.service.runs.estimates import estimate
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.log_files import log_after, log_pieces
from pinecart.service.runs.report_formats import REPORT_FORMATS, report_schema
from pinecart.service.runs.selectors import comparing, finding, records
from pinecart.service.runs.selectors.history import run_before
from pinecart.service.runs.selectors.whole import run_whole
from pinecart.service.runs.services import holds, life_cycle
from pinecart.service.runs.shapes import (
    CompareAsked,
    ComparedShape,
    EventShape,
    FindAsked,
    FoldersAsked,
    FolderShape,
    FoundShape,
    GoneOnShape,
    LogAsked,
    LogShape,
    ObjectsAsked,
    ObjectShape,
    PreviewShape,
    PublicKeyShape,
    RanByShape,
    RateShape,
    ReleaseShape,
    ReportAsked,
    RunsAsked,
    RunShape,
    RunWholeShape,
    StopShape,
    UndoShape,
    WhyShape,
)
from pinecart.service.runs.stream import MOST_OF_ONE, hub, stream


def asked(shape: type[serializers.Serializer], request: Request) -> JsonObject:
    made = shape(data=request.query_params)
    made.is_valid(raise_exception=True)
    return dict(made.validated_data)


def started(run: RunFacts) -> Response:
    return Response(presentation.run_told(run), status=201)


class Runs(APIView):
    kind = "transfer"

    @extend_schema(parameters=[RunsAsked], responses=RunShape(many=True))
    def get(self, request: Request) -> Response:
        """Runs, newest first."""
        found = selectors.runs_seen(actor_in(request), kind=self.kind, **asked(RunsAsked, request))
        return Response([presentation.run_told(r) for r in found])


class Audits(Runs):
    """Audits, newest first."""

    kind = "audit"


class RunView(APIView):
    kind = "transfer"

    @extend_schema(responses=RunWholeShape)
    def get(self, request: Request, number: int) -> Response:
        """One run, with its problems grouped by cause."""
        run = selectors.run_numbered(number, actor_in(request), self.kind)
        return Response(run_whole(run))


class AuditView(RunView):
    """One audit."""

    kind = "audit"


class PreviewView(APIView):
    @extend_schema(responses=PreviewShape)
    def get(self, request: Request, number: int) -> Response:
        """One preview, and what its run would take."""
        run = selectors.run_numbered(number, actor_in(request), "preview")
        told = run_whole(run)
        told["estimate"] = estimate(run, told)
        told["largest"] = records.largest_of(run)
        return Response(told)


class RunDefinition(APIView):
    @extend_schema(responses=RanByShape)
    def get(self, request: Request, number: int) -> Response:
        """The definition that a run ran by, its places filled in."""
        run = selectors.run_numbered(number, actor_in(request))
        definition = read_definition(run.definition)
        told = {
            "definition": definition.as_mapping(),
            "version": run.version,
            "part": run.part,
            "sentences": sentences(definition),
        }
        return Response(told)


class RunObjects(APIView):
    kind = "transfer"

    @extend_schema(parameters=[ObjectsAsked], responses=ObjectShape(many=True))
    def get(self, request: Request, number: int) -> Response:
        """What was done to each object. Go on with `after` = the last id."""
        run = selectors.run_numbered(number, actor_in(request), self.kind)
        given = asked(ObjectsAsked, request)
        wanted = records.RecordsWanted(**given)
        found = records.records_after(run, wanted)
        return Response(found)


class AuditFindings(RunObjects):
    """What an audit found; `reason` is the finding."""

    kind = "audit"


class PreviewObjects(RunObjects):
    """What would be done to each object."""

    kind = "preview"


class PreviewFolders(APIView):
    @extend_schema(parameters=[FoldersAsked], responses=FolderShape(many=True))
    def get(self, request: Request, number: int) -> Response:
        """The folders of one level, each with what would be done in it."""
        run = selectors.run_numbered(number, actor_in(request), "preview")
        return Response(records.folders_of(run, **asked(FoldersAsked, request)))


class Find(APIView):
    @extend_schema(parameters=[FindAsked], responses=FoundShape(many=True))
    def get(self, request: Request) -> Response:
        """A file, anywhere, any time: every place of the name, and every run that
        touched it there.
        """
        return Response(finding.places_of_name(actor_in(request), **asked(FindAsked, request)))


class RunLogView(APIView):
    @extend_schema(parameters=[LogAsked], responses=LogShape)
    def get(self, request: Request, number: int) -> Response:
        """A run's log, from where a call before ended (`next`)."""
        run = selectors.run_numbered(number, actor_in(request))
        wanted = asked(LogAsked, request)
        lines, following = log_after(run.pk, **wanted)
        return Response({"lines": lines, "next": following})


class RunLogFile(APIView):
    @extend_schema(responses={(200, "application/jsonl"): str})
    def get(self, request: Request, number: int) -> StreamingHttpResponse:
        """A run's whole log, as JSON lines."""
        run = selectors.run_numbered(number, actor_in(request))
        life_cycle.was_saved(actor_in(request), run, "log")
        answer = StreamingHttpResponse(
            streamed(log_pieces(run.pk)), content_type="application/jsonl"
        )
        answer["Content-Disposition"] = f'attachment; filename="run-{run.pk}-log.jsonl"'
        return answer


class RunReport(APIView):
    @extend_schema(
        parameters=[ReportAsked],
        responses={(200, one.media_type): str for one in REPORT_FORMATS.values()},
    )
    def get(self, request: Request, number: int) -> StreamingHttpResponse:
        """A run's report, in one of the formats that `GET forms` names."""
        actor = actor_in(request)
        run = selectors.run_numbered(number, actor)
        name_of_format = asked(ReportAsked, request)["as"]
        wanted = REPORT_FORMATS[name_of_format]
        life_cycle.was_saved(actor, run, "report")
        media_type = f"{wanted.media_type}; charset=utf-8"
        texts = wanted.write(run)
        pieces = streamed(text.encode() for text in texts)
        answer = StreamingHttpResponse(pieces, content_type=media_type)
        shown = "inline" if wanted.opens else "attachment"
        name = f"{run.job}-run-{run.pk}.{wanted.name}"
        answer["Content-Disposition"] = f'{shown}; filename="{name}"'
        answer["Content-Security-Policy"] = "default-src 'none'; style-src 'unsafe-inline'"
        return answer


class ReportSchema(APIView):
    @extend_schema(responses=OpenApiTypes.OBJECT)
    def get(self, request: Request) -> Response:
        """The JSON Schema of a line of a report as JSON lines."""
        return Response(report_schema())


class RunCompare(APIView):
    @extend_schema(parameters=[CompareAsked], responses=ComparedShape)
    def get(self, request: Request, number: int) -> Response:
        """What this run carried and another didn't, and which problems are new."""
        actor = actor_in(request)
        run = selectors.run_numbered(number, actor)
        given = asked(CompareAsked, request)
        number_before = given.get("other") or run_before(run)
        if number_before is None:
            message = f"Run {number} is the first of its job: there is none to compare it with."
            raise UnknownName(message, code="run.no-other")
        other = selectors.run_numbered(number_before, actor)
        found = comparing.compared(run, other)
        return Response(found)


class RunProof(APIView):
    @extend_schema(responses={(200, "application/jsonl"): str})
    def get(self, request: Request, number: int) -> StreamingHttpResponse:
        """What a run placed, or an audit found, as JSON lines that this service signs."""
        actor = actor_in(request)
        run = selectors.run_numbered(number, actor)
        life_cycle.was_saved(actor, run, "proof")
        made = proofs.proof_of(run, actor)
        answer = StreamingHttpResponse(streamed(made), content_type="application/jsonl")
        name = f"{run.job}-run-{run.pk}.proof"
        answer["Content-Disposition"] = f'attachment; filename="{name}"'
        return answer


class ProofKey(APIView):
    @extend_schema(responses=PublicKeyShape)
    def get(self, request: Request) -> Response:
        """With which the proofs of this service are checked."""
        return Response({"public_key": proofs.public_key()})


class RunStop(APIView):
    @extend_schema(request=StopShape, responses=RunShape)
    def post(self, request: Request, number: int) -> Response:
        """Stop a run once what is in flight is finished, or at once; another run does the rest."""
        actor = actor_in(request)
        given = checked(StopShape, request.data or {})
        run = life_cycle.stop_run(actor, number, at_once=given["at_once"])
        told = presentation.run_told(run)
        return Response(told)


class RunPause(APIView):
    @extend_schema(request=None, responses=RunShape)
    def post(self, request: Request, number: int) -> Response:
        """Pause a run: what is in flight is finished."""
        return Response(presentation.run_told(life_cycle.pause_run(actor_in(request), number)))


class RunLimit(APIView):
    @extend_schema(request=RateShape, responses=RunShape)
    def post(self, request: Request, number: int) -> Response:
        """Limit how fast a run moves bytes, from now on."""
        return Response(
            presentation.run_told(
                life_cycle.limit_run(
                    actor_in(request), number, checked(RateShape, request.data)["rate"]
                )
            )
        )


class RunResume(APIView):
    @extend_schema(request=None, responses=RunShape)
    def post(self, request: Request, number: int) -> Response:
        """A paused run goes on; both sides are listed anew."""
        return Response(presentation.run_told(life_cycle.resume_run(actor_in(request), number)))


class RunRetry(APIView):
    @extend_schema(request=None, responses={201: RunShape})
    def post(self, request: Request, number: int) -> Response:
        """The same once more, by the definition as it was."""
        return started(life_cycle.retry_run(actor_in(request), number))


class RunRelease(APIView):
    @extend_schema(request=ReleaseShape, responses=RunShape)
    def post(self, request: Request, number: int) -> Response:
        """Say yes to what a run waits with. Refused if it is another list by now."""
        return Response(
            presentation.run_told(
                holds.release_run(actor_in(request), number, **checked(ReleaseShape, request.data))
            )
        )


class RunDecline(APIView):
    @extend_schema(request=WhyShape, responses=RunShape)
    def post(self, request: Request, number: int) -> Response:
        """Say no: what is held is not done, and the run ends."""
        return Response(
            presentation.run_told(
                holds.decline_run(actor_in(request), number, **checked(WhyShape, request.data))
            )
        )


class StoreGoOn(APIView):
    @extend_schema(request=None, responses=GoneOnShape)
    def post(self, request: Request, name: str) -> Response:
        """One yes for every run that waits since this store refused its key."""
        return Response(
            {"runs": [run.pk for run in holds.release_refused(actor_in(request), name)]}
        )


class RunUndo(APIView):
    @extend_schema(request=UndoShape, responses={201: RunShape})
    def post(self, request: Request, number: int) -> Response:
        """Take back what a run did, as far as it still lies as it was left; or
        only preview that.
        """
        return started(
            life_cycle.undo_run(actor_in(request), number, **checked(UndoShape, request.data))
        )


class RunEvents(APIView):
    @extend_schema(
        responses={
            (200, "text/event-stream"): OpenApiResponse(
                EventShape, description="Server-sent events."
            )
        }
    )
    def get(self, request: Request, number: int) -> StreamingHttpResponse:
        """A stream of server-sent events: `state` (the run) and `progress`, until it has ended."""
        actor = actor_in(request)
        run = selectors.run_numbered(number, actor)
        if hub.open_of[actor.name] >= MOST_OF_ONE:
            message = f"You have {MOST_OF_ONE} streams open. End some first."
            raise Throttled(detail=message)
        look = sync_to_async(_may_still, thread_sensitive=False)

        async def still_allowed() -> bool:
            return await look(request._request, run)

        last_id = request.headers.get("Last-Event-ID", "")
        by = f"{actor.user_id} {actor.token} {actor.sign_in}"
        body = stream(run, actor.name, still_allowed, by, last_id)
        answer = StreamingHttpResponse(body, content_type="text/event-stream")
        answer["Cache-Control"] = "no-cache"
        return answer


def _may_still(request: HttpRequest, run: RunFacts) -> bool:
    """Not after its token has ended, its session was signed out, or a right is gone."""
    now = actor_by_headers(request)
    return now is not None and now.may(Right.LOOK, run.labels)
