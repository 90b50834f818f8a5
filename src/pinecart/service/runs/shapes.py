"""Runs as the API takes and tells them."""

from __future__ import annotations

from rest_framework import serializers

from pinecart.core.audit import Depth
from pinecart.core.decide import Decision
from pinecart.json_object import JsonObject
from pinecart.service.runs.report_formats import REPORT_FORMATS


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


class AuditRulesShape(serializers.Serializer):
    depth = serializers.ChoiceField(
        [depth.value for depth in Depth],
        default=Depth.NAMES.value,
        help_text="names (and sizes), metadata, or content; each looks at what those before do.",
    )
    sample = serializers.IntegerField(
        default=100,
        min_value=1,
        max_value=100,
        help_text="Of so many in a hundred files metadata and content are looked at.",
    )


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
    version = serializers.IntegerField(
        allow_null=True, help_text="Of the job's definition that it ran by."
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
    audit = AuditRulesShape(help_text="Of an audit: how closely it looks.")
    cleared_at = serializers.DateTimeField(
        allow_null=True, help_text="When its records of each file were cleared away."
    )
    code = serializers.CharField(allow_blank=True)


class ProblemGroupShape(serializers.Serializer):
    code = serializers.CharField()
    objects = serializers.IntegerField()
    message = serializers.CharField()


class EffortShape(serializers.Serializer):
    phases = serializers.DictField(child=serializers.FloatField(), help_text="Phase → seconds.")
    requests = serializers.DictField(
        child=serializers.IntegerField(),
        help_text="Store → requests sent, those tried again too; of stores asked over a line.",
    )


class RunWholeShape(RunShape):
    effort = EffortShape(help_text="What it took.")
    cautions = serializers.ListField(
        child=serializers.CharField(),
        help_text="What can't be kept where it writes to, and what else is to be known of that.",
    )
    unusual = serializers.ListField(
        child=serializers.CharField(), help_text="What is unlike the runs of its job before it."
    )
    proofs = serializers.DictField(
        child=serializers.IntegerField(), help_text="How what was placed was proven → objects."
    )
    problem_groups = ProblemGroupShape(many=True)
    course = serializers.ListField(
        child=serializers.ListField(child=serializers.FloatField()),
        help_text="How it went along: seconds since it began, bytes, objects.",
    )


class StoreEstimateShape(serializers.Serializer):
    store = serializers.CharField()
    requests = serializers.IntegerField()
    cost = serializers.CharField(
        allow_null=True, help_text="In the currency of the store's prices; null: it has none."
    )


class EstimateShape(serializers.Serializer):
    seconds = serializers.FloatField(
        allow_null=True, help_text="Null: no run of its job has done anything yet."
    )
    by_runs = serializers.IntegerField(help_text="So many runs tell how long it takes.")
    stores = StoreEstimateShape(many=True, help_text="Those that are asked over a line.")


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


class PreviewShape(RunWholeShape):
    estimate = EstimateShape()
    largest = ObjectShape(
        many=True, help_text="The three largest files of it; none, where there are too many to ask."
    )


class RanByShape(serializers.Serializer):
    definition = serializers.JSONField()
    version = serializers.IntegerField(allow_null=True)
    part = serializers.JSONField(help_text="Which of the job's files; empty: all.")
    sentences = serializers.ListField(child=serializers.CharField())


class LogShape(serializers.Serializer):
    lines = serializers.ListField(child=serializers.DictField())
    next = serializers.IntegerField(help_text="Where to go on.")


class RunsAsked(serializers.Serializer):
    job = serializers.CharField(default="", allow_blank=True)
    state = serializers.CharField(default="", allow_blank=True, help_text="A state or an outcome.")
    before = serializers.IntegerField(required=False)
    since = serializers.DateTimeField(required=False, help_text="Ended then, or later.")
    until = serializers.DateTimeField(required=False, help_text="Ended before.")
    only = serializers.ChoiceField(
        ["", "transfer", "undo", "expiry"], default="", help_text="Of one kind; empty: all."
    )
    limit = serializers.IntegerField(default=50, min_value=1, max_value=500)


class ObjectsAsked(serializers.Serializer):
    after = serializers.IntegerField(default=0)
    limit = serializers.IntegerField(default=500, min_value=1, max_value=5000)
    decision = serializers.CharField(
        default="", allow_blank=True, help_text="A decision or a reason."
    )
    problems = serializers.BooleanField(default=False)
    held = serializers.BooleanField(default=False, help_text="Only what waits for a person.")
    leg = serializers.IntegerField(default=0, min_value=0, help_text="From 1; 0: all.")
    prefix = serializers.CharField(
        default="", allow_blank=True, trim_whitespace=False, help_text="Names that begin so."
    )
    text = serializers.CharField(
        default="", allow_blank=True, trim_whitespace=False, help_text="Part of a name."
    )
    level = serializers.BooleanField(
        default=False, help_text="Only the files of the folder `prefix` itself."
    )


class FoldersAsked(serializers.Serializer):
    leg = serializers.IntegerField(default=1, min_value=1)
    prefix = serializers.CharField(default="", allow_blank=True, trim_whitespace=False)


class LogAsked(serializers.Serializer):
    after = serializers.IntegerField(default=0, min_value=0)
    limit = serializers.IntegerField(default=1000, min_value=1, max_value=10000)
    level = serializers.ChoiceField(
        ["info", "warning", "error"],
        default="info",
        help_text="Lines of this level or a worse one.",
    )
    text = serializers.CharField(default="", allow_blank=True, help_text="Is in the line.")


class ReportAsked(serializers.Serializer):
    def get_fields(self) -> JsonObject:
        return {"as": serializers.ChoiceField(list(REPORT_FORMATS), default="html")}


class FolderShape(serializers.Serializer):
    key = serializers.CharField()
    key_id = serializers.CharField(help_text="The key, as it is given again.")
    totals = TotalsShape()


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
    proof = serializers.CharField(allow_blank=True)
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


class RateShape(serializers.Serializer):
    rate = serializers.IntegerField(
        allow_null=True, min_value=1, help_text="Bytes per second; null: no limit."
    )


class WhyShape(serializers.Serializer):
    why = serializers.CharField(default="", allow_blank=True, max_length=500)


class ReleaseShape(WhyShape):
    digest = serializers.CharField(help_text="Of the lists that were seen.")


class CompareAsked(serializers.Serializer):
    other = serializers.IntegerField(
        required=False, help_text="The run to compare with; the one of its job before it, without."
    )


class OnlyInShape(serializers.Serializer):
    objects = serializers.IntegerField(
        help_text="So many; 10 001: more than 10 000. The files are the first of them."
    )
    files = ObjectShape(many=True)


class ComparedShape(serializers.Serializer):
    run = serializers.IntegerField()
    other = serializers.IntegerField()
    carried_here = OnlyInShape(help_text="Carried in this run and not in the other.")
    carried_there = OnlyInShape(help_text="Carried in the other and not in this one.")
    new_problems = OnlyInShape(help_text="Problems of this run that the other didn't have.")
    gone_problems = OnlyInShape(help_text="Problems of the other that this one hasn't.")


class PublicKeyShape(serializers.Serializer):
    public_key = serializers.CharField(help_text="Ed25519, base64.")


class StopShape(serializers.Serializer):
    at_once = serializers.BooleanField(
        default=False, help_text="What is in flight isn't finished either."
    )


class UndoShape(serializers.Serializer):
    preview = serializers.BooleanField(default=False)


class GoneOnShape(serializers.Serializer):
    runs = serializers.ListField(child=serializers.IntegerField())


class EventShape(serializers.Serializer):
    """One server-sent event."""

    id = serializers.CharField(help_text="To be sent as Last-Event-ID, to go on from here.")
    event = serializers.ChoiceField(["state", "progress"])
    data = serializers.CharField(help_text=("JSON: the run, or how far it is."))  # type: ignore[assignment]
