"""Jobs as the API takes and tells them."""

from __future__ import annotations

from rest_framework import serializers

from pinecart.core.option_spec import JOB
from pinecart.core.options import of_use
from pinecart.core.triggers import TRIGGERS
from pinecart.json_object import JsonObject
from pinecart.service.config.shapes import of_fields
from pinecart.service.jobs import selectors
from pinecart.service.runs.shapes import AuditRulesShape, ObjectShape, RunShape


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


class PlacesShape(serializers.Serializer):
    def get_fields(self) -> JsonObject:
        return {"from": serializers.CharField(), "to": serializers.CharField()}


class RecentRunShape(serializers.Serializer):
    id = serializers.IntegerField()
    state = serializers.CharField()
    outcome = serializers.CharField(allow_blank=True)
    queued_at = serializers.DateTimeField()
    started_at = serializers.DateTimeField(allow_null=True)
    ended_at = serializers.DateTimeField(allow_null=True)
    seconds = serializers.FloatField(allow_null=True, help_text="From its start to its end.")


class JobLineShape(serializers.Serializer):
    """A job as a list has it."""

    job = serializers.CharField()
    title = serializers.CharField()
    labels = serializers.ListField(child=serializers.CharField())
    owner = serializers.CharField()
    intent = serializers.CharField()
    legs = PlacesShape(many=True)
    is_on = serializers.BooleanField()
    version = serializers.IntegerField()
    next_due = serializers.DateTimeField(allow_null=True)
    recent = RecentRunShape(many=True, help_text="Its latest runs, oldest first; 14 at most.")
    last_bytes = serializers.IntegerField(help_text="That its last run carried.")
    usual_s = serializers.FloatField(
        allow_null=True, help_text="Seconds that its runs take: the median of the latest."
    )


class JobLinesShape(serializers.Serializer):
    jobs = JobLineShape(many=True)
    total = serializers.IntegerField(help_text="How many there are in all, of these.")


class JobsAsked(serializers.Serializer):
    find = serializers.CharField(
        required=False, default="", help_text="In its name, title, reason or places."
    )
    store = serializers.CharField(required=False, default="")
    owner = serializers.CharField(required=False, default="")
    last = serializers.CharField(
        required=False, default="", help_text="How the last run is or ended; never: it never ran."
    )
    is_on = serializers.BooleanField(required=False, default=None, allow_null=True)
    sort = serializers.ChoiceField(list(selectors.SORTS), default="job")
    descending = serializers.BooleanField(default=False)
    skip = serializers.IntegerField(default=0, min_value=0)
    limit = serializers.IntegerField(default=50, min_value=1, max_value=500)

    def get_fields(self) -> JsonObject:
        label = serializers.CharField(required=False, default="")
        return super().get_fields() | {"label": label}


class SwitchedShape(serializers.Serializer):
    by = serializers.CharField()
    at = serializers.DateTimeField()
    why = serializers.CharField()


class JobShape(serializers.Serializer):
    job = serializers.CharField()
    title = serializers.CharField()
    definition = DefinitionShape()
    version = serializers.IntegerField()
    is_on = serializers.BooleanField()
    switched = SwitchedShape(
        allow_null=True, help_text="Who switched it on or off last; nobody, as it was defined."
    )
    saved_at = serializers.DateTimeField()
    next_due = serializers.DateTimeField(allow_null=True)
    when = serializers.CharField(help_text="Its schedule, in words; empty: none.")
    due = serializers.ListField(
        child=serializers.DateTimeField(), help_text="The next ten times that it starts by itself."
    )
    sentences = serializers.ListField(child=serializers.CharField())
    dangers = serializers.ListField(
        child=serializers.CharField(),
        help_text="Those of the sentences that tell of what is removed or lost.",
    )
    last_run = RunShape(allow_null=True)
    last_audit = RunShape(allow_null=True)


class CheckedShape(serializers.Serializer):
    definition = DefinitionShape()
    due = serializers.ListField(
        child=serializers.DateTimeField(), help_text="The next ten times that it starts by itself."
    )
    sentences = serializers.ListField(child=serializers.CharField())
    dangers = serializers.ListField(
        child=serializers.CharField(),
        help_text="Those of the sentences that tell of what is removed or lost.",
    )


class DifferenceShape(serializers.Serializer):
    field = serializers.CharField(help_text="As a definition calls it.")
    title = serializers.CharField()
    before = serializers.CharField()
    after = serializers.CharField()


class JobVersionShape(serializers.Serializer):
    version = serializers.IntegerField()
    saved_at = serializers.DateTimeField()
    saved_by = serializers.CharField()
    definition = DefinitionShape()
    sentences = serializers.ListField(child=serializers.CharField())
    differences = DifferenceShape(many=True, help_text="From the version before it.")


class BackShape(serializers.Serializer):
    version = serializers.IntegerField(min_value=1)


class SwitchShape(serializers.Serializer):
    on = serializers.BooleanField(help_text="Whether it may be started by itself.")
    why = serializers.CharField(required=False, allow_blank=True, default="", max_length=1000)


class CopyShape(serializers.Serializer):
    job = serializers.CharField(help_text="The name of the copy.")
    turned = serializers.BooleanField(
        default=False, help_text="From where it put to, to where it took from."
    )


class DueShape(serializers.Serializer):
    job = serializers.CharField()
    title = serializers.CharField()
    due = serializers.ListField(
        child=serializers.DateTimeField(), help_text="Every time within the days that were asked."
    )
    when = serializers.CharField(help_text="Its schedule, in words.")
    schedule = ScheduleShape()
    next_due = serializers.DateTimeField()
    is_on = serializers.BooleanField()


class FindingShape(serializers.Serializer):
    field = serializers.CharField()
    code = serializers.CharField()
    message = serializers.CharField()
    is_problem = serializers.BooleanField(help_text="It can't go well; else something to know.")


class LookedOverShape(CheckedShape):
    findings = FindingShape(many=True)


class PartShape(serializers.Serializer):
    """Which of a job's files a run is about; nothing: all."""

    first = serializers.IntegerField(
        required=False, min_value=1, help_text="Copy or replace so many, and do nothing else."
    )
    only = serializers.ListField(
        child=serializers.CharField(), required=False, help_text="Only files of these names."
    )
    prefix = serializers.CharField(
        required=False, allow_blank=True, help_text="Only files whose names begin so."
    )
    leg = serializers.IntegerField(
        required=False, min_value=1, help_text="Only this leg, counted from 1."
    )


class ExplainAsked(serializers.Serializer):
    key = serializers.CharField(
        trim_whitespace=False, help_text="The file's name at the source, or there."
    )


class ExplainStepShape(serializers.Serializer):
    rule = serializers.CharField()
    words = serializers.CharField()
    decides = serializers.BooleanField()


class KeyRecordShape(ObjectShape):
    run = serializers.IntegerField()


class ExplanationShape(serializers.Serializer):
    leg = serializers.IntegerField(help_text="Counted from 1.")
    places = PlacesShape()
    key = serializers.CharField(help_text="Its name there.")
    decision = serializers.CharField(allow_blank=True, help_text="Empty: it is nowhere.")
    reason = serializers.CharField(allow_blank=True)
    steps = ExplainStepShape(many=True, help_text="Each rule in its order.")
    records = KeyRecordShape(many=True, help_text="What was done to it, the newest first.")


class WaitShape(serializers.Serializer):
    wait = serializers.BooleanField(
        default=False, help_text="Begin only once no run of the job is under way."
    )


class AuditAskedShape(WaitShape, AuditRulesShape):
    pass


class AmountShape(serializers.Serializer):
    objects = serializers.IntegerField()
    bytes = serializers.IntegerField()


class CountedShape(serializers.Serializer):
    here = AmountShape()
    there = AmountShape()
    left_out = serializers.DictField(
        child=serializers.IntegerField(), help_text="Reason → files that it leaves out."
    )
    by_intent = serializers.DictField(
        child=serializers.DictField(child=serializers.IntegerField()),
        help_text="For each intent, decision → files; `compare`: only their contents tell.",
    )
    is_all = serializers.BooleanField(
        help_text="Whether everything was seen; else only the first names, in their order."
    )
    example = PlacesShape(allow_null=True, help_text="The first file that is taken.")


class LegCountedShape(serializers.Serializer):
    places = PlacesShape()
    message = serializers.CharField(help_text="Why a store could not be asked; or empty.")
    counted = CountedShape(allow_null=True)


class CalledShape(serializers.Serializer):
    run = serializers.IntegerField(help_text="That does it: a new one, or the one that waits.")
    state = serializers.CharField()


class PreviewAskedShape(PartShape, WaitShape):
    pass


class ScheduleAsked(serializers.Serializer):
    days = serializers.IntegerField(default=7, min_value=1, max_value=31)
