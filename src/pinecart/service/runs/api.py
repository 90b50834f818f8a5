from __future__ import annotations

from collections.abc import AsyncIterator, Iterator

from asgiref.sync import sync_to_async
from django.http import HttpRequest, StreamingHttpResponse
from drf_spectacular.utils import OpenApiResponse, extend_schema
from rest_framework import serializers
from rest_framework.exceptions import Throttled
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart.core.decide import Decision
from pinecart.json_object import JsonObject
from pinecart.service.config.rights import Right
from pinecart.service.config.shapes import checked
from pinecart.service.people.api import actor_in
from pinecart.service.people.sign_in import actor_by_headers
from pinecart.service.runs import presentation, selectors
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.report_formats import REPORT_FORMATS
from pinecart.service.runs.services import holds, life_cycle
from pinecart.service.runs.stream import MOST_OF_ONE, hub, stream


class PlaceShape(serializers.Serializer):
    def get_fields(self) -> JsonObject:
        return {"from": serializers.CharField(), "to": serializers.CharField()}


class CountShape(serializers.Serializer):
    objects = serializers.IntegerField()
    bytes = serializers.IntegerField()


class TotalsShape(serializers.Serializer):
    def get_fields(self) -> JsonObject:
        return {d.value: CountShape() for d in Decision}


class FarSideShape(CountShape):
    differences = serializers.IntegerField()


class InFlightShape(serializers.Serializer):
    key = serializers.CharField()
    bytes = serializers.IntegerField()


class ProgressShape(serializers.Serializer):
    phases = serializers.ListField(child=serializers.CharField())
    listed = serializers.IntegerField()
    unchanged = serializers.IntegerField()
    listing_complete = serializers.BooleanField()
    planned = CountShape()
    done = CountShape()
    problems = serializers.IntegerField()
    in_flight = InFlightShape(many=True)
    rate_bytes = serializers.IntegerField(help_text="Bytes per second, over the last 5 s.")
    rate_objects = serializers.FloatField()
    waits_for = serializers.CharField(
        required=False,
        allow_blank=True,
        help_text="What nothing moves for, in words; empty: it gets on.",
    )
    seconds_left = serializers.FloatField(
        allow_null=True, help_text="At least, until the listing is complete."
    )


class HeldListShape(CountShape):
    leg = serializers.IntegerField()
    what = serializers.CharField(
        help_text="removals, replacements, missing, or places: a store was bound to another one."
    )
    guard = serializers.CharField(help_text="The limit that holds it.")
    message = serializers.CharField()
    digest = serializers.CharField()


class HeldShape(serializers.Serializer):
    digest = serializers.CharField(help_text="Of all lists: a release names it.")
    lists = HeldListShape(many=True)


class RunShape(serializers.Serializer):
    id = serializers.IntegerField()
    kind = serializers.CharField(help_text="transfer, preview, audit, undo or expiry.")
    job = serializers.CharField()
    title = serializers.CharField()
    legs = PlaceShape(many=True)
    state = serializers.CharField()
    outcome = serializers.CharField(allow_blank=True, help_text="Empty until it has ended.")
    sentence = serializers.CharField()
    cause = serializers.CharField()
    queued_at = serializers.DateTimeField()
    started_at = serializers.DateTimeField(allow_null=True)
    ended_at = serializers.DateTimeField(allow_null=True)
    totals = TotalsShape()
    folders = serializers.DictField(
        child=serializers.IntegerField(),
        help_text="Folders made (copy) and taken away (remove), counted apart from files.",
    )
    reasons = serializers.DictField(
        child=serializers.IntegerField(), help_text="`decision reason` → objects."
    )
    problems = serializers.IntegerField()
    size_only = serializers.IntegerField()
    findings = serializers.IntegerField()
    far_side = FarSideShape(allow_null=True)
    progress = ProgressShape(allow_null=True)
    told_at = serializers.DateTimeField(allow_null=True, help_text="Its last sign of life.")
    stop_wanted = serializers.BooleanField()
    pause_wanted = serializers.BooleanField()
    rate = serializers.IntegerField(
        allow_null=True, help_text="Bytes per second at most; null: no limit."
    )
    of = serializers.IntegerField(
        allow_null=True, help_text="The run that this one undoes or clears up after."
    )
    intent = serializers.CharField()
    set_aside = serializers.IntegerField(
        help_text="Days that what is removed or replaced is kept; 0: not at all."
    )
    held = HeldShape(allow_null=True, help_text="What waits for a person.")
    undoable = serializers.BooleanField()
    message = serializers.CharField(allow_blank=True)
    code = serializers.CharField(allow_blank=True)


class ProblemGroupShape(serializers.Serializer):
    code = serializers.CharField()
    objects = serializers.IntegerField()
    message = serializers.CharField()


class RunWholeShape(RunShape):
    problem_groups = ProblemGroupShape(many=True)


class ObjectShape(serializers.Serializer):
    id = serializers.IntegerField()
    leg = serializers.IntegerField()
    key = serializers.CharField()
    key_id = serializers.CharField(
        help_text="Stands for exactly this key, wherever one is asked for."
    )
    decision = serializers.CharField()
    reason = serializers.CharField()
    bytes = serializers.IntegerField()
    done = serializers.BooleanField()
    seconds = serializers.FloatField()
    checksum = serializers.CharField(allow_blank=True, help_text="CRC-64/NVME, base64.")
    proof = serializers.CharField(allow_blank=True)
    guarded = serializers.BooleanField()
    cleared = serializers.BooleanField(help_text="Its source was cleared after proof.")
    tries = serializers.IntegerField()
    error = serializers.CharField(allow_blank=True)
    message = serializers.CharField(allow_blank=True)


class LogShape(serializers.Serializer):
    lines = serializers.ListField(child=serializers.DictField())
    next = serializers.IntegerField(help_text="Where to go on.")


class RunsAsked(serializers.Serializer):
    job = serializers.CharField(default="", allow_blank=True)
    state = serializers.CharField(default="", allow_blank=True, help_text="A state or an outcome.")
    before = serializers.IntegerField(required=False)
    limit = serializers.IntegerField(default=50, min_value=1, max_value=500)


class ObjectsAsked(serializers.Serializer):
    after = serializers.IntegerField(default=0)
    limit = serializers.IntegerField(default=500, min_value=1, max_value=5000)
    decision = serializers.CharField(
        default="", allow_blank=True, help_text="A decision or a reason."
    )
    problems = serializers.BooleanField(default=False)
    held = serializers.BooleanField(default=False, help_text="Only what waits for a person.")


class LogAsked(serializers.Serializer):
    after = serializers.IntegerField(default=0, min_value=0)
    limit = serializers.IntegerField(default=1000, min_value=1, max_value=10000)


class ReportAsked(serializers.Serializer):
    def get_fields(self) -> JsonObject:
        return {"as": serializers.ChoiceField(list(REPORT_FORMATS), default="html")}


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
        return Response(
            presentation.run_told(run) | {"problem_groups": presentation.problem_groups(run)}
        )


class AuditView(RunView):
    """One audit."""

    kind = "audit"


class PreviewView(RunView):
    """One preview."""

    kind = "preview"


class RunObjects(APIView):
    kind = "transfer"

    @extend_schema(parameters=[ObjectsAsked], responses=ObjectShape(many=True))
    def get(self, request: Request, number: int) -> Response:
        """What was done to each object. Go on with `after` = the last id."""
        run = selectors.run_numbered(number, actor_in(request), self.kind)
        return Response(selectors.records_after(run, **asked(ObjectsAsked, request)))


class AuditFindings(RunObjects):
    """What an audit found; `reason` is the finding."""

    kind = "audit"


class PreviewObjects(RunObjects):
    """What would be done to each object."""

    kind = "preview"


class FindAsked(serializers.Serializer):
    name = serializers.CharField(
        trim_whitespace=True, help_text="Part of a file's name; * stands for anything."
    )
    limit = serializers.IntegerField(default=500, min_value=1, max_value=5000)


class TouchShape(serializers.Serializer):
    run = serializers.IntegerField()
    job = serializers.CharField()
    kind = serializers.CharField()
    decision = serializers.CharField()
    reason = serializers.CharField()
    done = serializers.BooleanField()
    error = serializers.CharField(allow_blank=True)
    checksum = serializers.CharField(allow_blank=True)
    at = serializers.DateTimeField(allow_null=True)


class FoundShape(serializers.Serializer):
    key = serializers.CharField()
    key_id = serializers.CharField(
        help_text="Stands for exactly this key, wherever one is asked for."
    )
    bytes = serializers.IntegerField()
    runs = TouchShape(many=True, help_text="Newest first.")

    def get_fields(self) -> JsonObject:
        return {
            "from": serializers.CharField(),
            "to": serializers.CharField(),
        } | super().get_fields()


class Find(APIView):
    @extend_schema(parameters=[FindAsked], responses=FoundShape(many=True))
    def get(self, request: Request) -> Response:
        """A file, anywhere, any time: every place of the name, and every run that
        touched it there.
        """
        return Response(selectors.places_of_name(actor_in(request), **asked(FindAsked, request)))


class RunLog(APIView):
    @extend_schema(parameters=[LogAsked], responses=LogShape)
    def get(self, request: Request, number: int) -> Response:
        """A run's log, from where a call before ended (`next`)."""
        run = selectors.run_numbered(number, actor_in(request))
        wanted = asked(LogAsked, request)
        lines, following = selectors.log_after(run, **wanted)
        return Response({"lines": lines, "next": following})


PIECE_LETTERS = 1 << 16


class RunReport(APIView):
    @extend_schema(
        parameters=[ReportAsked],
        responses={(200, one.media_type): str for one in REPORT_FORMATS.values()},
    )
    def get(self, request: Request, number: int) -> StreamingHttpResponse:
        """A run's report, in one of the formats that `GET forms` names."""
        run = selectors.run_numbered(number, actor_in(request))
        name_of_format = asked(ReportAsked, request)["as"]
        wanted = REPORT_FORMATS[name_of_format]
        media_type = f"{wanted.media_type}; charset=utf-8"
        pieces = _in_pieces(wanted.write(run))
        answer = StreamingHttpResponse(pieces, content_type=media_type)
        shown = "inline" if wanted.opens else "attachment"
        name = f"{run.job}-run-{run.pk}.{wanted.name}"
        answer["Content-Disposition"] = f'{shown}; filename="{name}"'
        answer["Content-Security-Policy"] = "default-src 'none'; style-src 'unsafe-inline'"
        return answer


async def _in_pieces(found: Iterator[str]) -> AsyncIterator[str]:
    """A report some 64 KiB at a time, worked out in a thread while the caller takes the last."""
    next_piece = sync_to_async(_joined, thread_sensitive=False)
    while piece := await next_piece(found):
        yield piece


def _joined(found: Iterator[str]) -> str:
    pieces, length = list[str](), 0
    for piece in found:
        pieces.append(piece)
        length += len(piece)
        if length >= PIECE_LETTERS:
            break
    return "".join(pieces)


class RunStop(APIView):
    @extend_schema(request=None, responses=RunShape)
    def post(self, request: Request, number: int) -> Response:
        """Stop a run cleanly: what is in flight is finished, the rest is left for another run."""
        return Response(presentation.run_told(life_cycle.stop_run(actor_in(request), number)))


class RunPause(APIView):
    @extend_schema(request=None, responses=RunShape)
    def post(self, request: Request, number: int) -> Response:
        """Pause a run: what is in flight is finished."""
        return Response(presentation.run_told(life_cycle.pause_run(actor_in(request), number)))


class RateShape(serializers.Serializer):
    rate = serializers.IntegerField(
        allow_null=True, min_value=1, help_text="Bytes per second; null: no limit."
    )


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


class WhyShape(serializers.Serializer):
    why = serializers.CharField(default="", allow_blank=True, max_length=500)


class ReleaseShape(WhyShape):
    digest = serializers.CharField(help_text="Of the lists that were seen.")


class UndoShape(serializers.Serializer):
    preview = serializers.BooleanField(default=False)


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


class GoneOnShape(serializers.Serializer):
    runs = serializers.ListField(child=serializers.IntegerField())


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


class EventShape(serializers.Serializer):
    """One server-sent event."""

    id = serializers.CharField(help_text="To be sent as Last-Event-ID, to go on from here.")
    event = serializers.ChoiceField(["state", "progress"])
    data = serializers.CharField(help_text=("JSON: the run, or how far it is."))  # type: ignore[assignment]


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
            raise Throttled(detail=f"You have {MOST_OF_ONE} streams open. End some first.")

        async def still_allowed() -> bool:
            return await sync_to_async(_may_still, thread_sensitive=False)(request._request, run)

        last_id = request.headers.get("Last-Event-ID", "")
        body = stream(run, actor.name, still_allowed, last_id)
        answer = StreamingHttpResponse(body, content_type="text/event-stream")
        answer["Cache-Control"] = "no-cache"
        return answer


def _may_still(request: HttpRequest, run: RunFacts) -> bool:
    """Not after its token has ended, its session was signed out, or a right is gone."""
    now = actor_by_headers(request)
    return now is not None and now.may(Right.LOOK, run.labels)
